"""How a flow may be led by some devices, or past them.

``link_costs`` finds the fewest costs of interfaces with which the shortest path is as wanted, or proves that none are;
``proposals`` puts what may do it into changes, solves with each, walks the flow, and orders them by what else they
move.
"""
