"""
Charge rotations: a first complete plan, better ones, and an independent check.

The physics of an event stands in several places, each written for its own pace. What
ties each to another, to the digits that its steps allow:

==========================  =======================  ===================================
one                         other                    test, under tests/powercore
==========================  =======================  ===================================
`verify`, event by event    `futures.simulate`       futures/test_simulate: "the planned
                                                     future has the verifier's minutes"
`futures.replay`, plainly   `futures.simulate`       futures/test_simulate: "simulation
                                                     equals the reference"
`construct`, in steps       `verify`                 rotation/test_rotation: "a greedy
                                                     start believes what the verifier
                                                     finds"
`tours`, a whole table      `verify`                 rotation/search/test_improve: "a
                                                     table is worth what the verifier
                                                     says of its legs"
`tours.physics`, charging   `physics.charging`       rotation/search/test_improve:
                                                     "compiled charging is the charge
                                                     model"
`tours.physics`, left over  `verify`                 rotation/search/test_improve:
                                                     "compiled charging at a station is
                                                     the verifier's"
==========================  =======================  ===================================
"""
