"""What held when a network changed: every conversation between two places, before and after, computed and not sampled.

Both states get one numbering (``states``), places and their addresses in classes that no table tells apart
(``places``).
Per class, decisions that differ are found and followed back to those whose ways meet them (``differences``,
``decisions``, ``ways``): all others are ruled out. Classes and sources that all goes alike to and from are looked at
once (``senders``, ``conversations``). ACLs and forwarding policies are sets of services between addresses that no
entry parts (``services``, ``entry_lists``), along which packets and their answers are followed in pieces
(``filtered``, ``following``). What differs is put together by what it shares (``groups``).
"""
