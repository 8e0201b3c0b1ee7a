"""
What no plan can be better than, and what places are worth: tours and their prices.

The master program chooses one tour for each battery among those found; its dual
values are prices for being at a station or on a bay, for a stop and for power. Each
battery's best tour at those prices joins it until none is worth joining. Any prices
give a bound by themselves (Lagrange): what all batteries could earn at them, plus
what the places are rented for. Two usual cures for prices that jump are used one after
the other: prices may not move far in one round, the boxstep method [1]_, and prices
smoothed towards the best so far [2]_.

The bound holds for plans whose moves are at the timetable's points. Not priced are
how many spares fit into a rack, what is in a bank and what panels give at the yard:
each battery counts as if it had these for itself.

References
----------
.. [1] R. E. Marsten, W. W. Hogan, J. W. Blankenship, "The boxstep method for
   large-scale optimization", Operations Research 23 (1975), pp. 389-405. From memory.
.. [2] P. Wentges, "Weighted Dantzig-Wolfe decomposition for linear mixed-integer
   programming", International Transactions in Operational Research 4 (1997),
   pp. 151-162. From memory.
"""
