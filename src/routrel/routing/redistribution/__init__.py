"""What protocols put into each other.

``fixed_point`` goes round by round: participants look at tables and say what they see, solutions take it in, until
nothing changes. ``redistributing`` is the participant that puts a table's routes into a protocol, by rules and
policies, as ``routing/redistributed.py`` holds it; protocols bring others (``routing/protocol.py``). ``classes``
settles prefixes as one that no participant can tell apart; ``cycles`` finds columns that come round; ``findings``
reports what does not settle.

Only routes that are best in the table are redistributed (docs/network-file.md).
"""
