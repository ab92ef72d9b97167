"""Shutting things for maintenance, drained first and one after the other, and what that does to what is expected.

``draining.py`` says which costs to raise so that traffic leaves something before it is shut, ``states.py`` looks at
what is expected in a state on the way, and ``plan.py`` finds an order. Everything said was solved.
"""
