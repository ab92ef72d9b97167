"""Changes to a network, as data and as edits of the text it was read from.

``vocabulary`` lists what can be changed; ``reading`` takes lists of changes from YAML or JSON. ``applying`` makes
them: each becomes an edit of the text of the devices or links it names (``finding`` and ``entries`` say where,
``text_edits`` edits with comments and layout kept, ``policy_statements`` writes statements of policies), and the part
(``sections``) is read again by the network file's own reader; ``outcomes`` is what became of each. So there is one
meaning of a change, that of the changed text, and the difference of the files is at hand without more. What did not
change stays the same objects with their places, so that solving takes over all that a change cannot reach.
"""
