"""Filter programs run as the kernel runs them (``model.filter_programs`` is what they say).

- ``packets``: a packet with all that rules look at, and connections as one device tracks them.
- ``values``: expressions and sets compiled to plain functions of a packet; what no capture tells stays unsaid.
- ``effects``: what rules do to a packet, translation among it.
- ``columns``: what the rules of a long chain ask at least; ``ports``: the ports that a program tells apart.
- ``chains``: chains compiled and run, with an outcome for every way that is possible.
- ``engine``: one device's program: hooks in order, connection tracking and translation between them.
- ``tracking``: the connections of one flow over all devices that tracked it.
"""
