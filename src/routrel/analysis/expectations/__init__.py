"""Expectations held against a network, as it is and with any one thing failed (docs/expectations.md).

``conditions.py`` asks one flow whether all that is expected of it holds; ``separate_ways.py`` counts ways that share
nothing; ``failures.py`` lists what may fail alone and makes it fail; ``stress.py`` walks flows under each failure,
``flow_supports.py`` tells which it cannot touch, ``moved.py`` which of the others need no walk, and ``holding.py`` puts
the answer together. A failure is solved on the network as it is, and not at all where it touches no flow.
"""
