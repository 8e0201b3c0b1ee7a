"""
Tours: one battery's whole life as one object, found by a compiled shortest path.

With all other batteries fixed, the best life of one is a longest path over points
in time × places × charge. Charge is cut into buckets, and each bucket keeps its best
life with that life's exact charge, so nothing is lost by rounding and every tour
found can be carried out as it is. Loads and charging follow the verifier's physics.

Ruin and recreate over tours then improves a whole plan: some related batteries are
taken out and put back one by one, each by its best tour. All but the last are put
back at a low price of energy; else each snatches what it can get, and walks never
become fewer. Deterministic for a seed and a number of rounds.

`arrays` are what all of it works on, `physics` one battery in one interval, `stock`
what stores leave, `prices` what stops and tables are worth, `path` the best tour,
`table` tours on a table, `recreate` the search.
"""
