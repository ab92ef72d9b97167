"""Prefixes as numbers, and classes of prefixes that get the same routes everywhere.

``index`` interns all prefixes of a network to numbers, with longest-prefix match. ``distinctions`` gathers what
configurations (``configured``) and protocols tell apart about prefixes; prefixes of which all is said alike are one
class. ``classes`` holds one prefix of each class: arrays of the solver are over these *columns*, tables turn a prefix
into its column. What a protocol newly asks of a prefix must become a distinction, or prefixes share what they should
not.
"""
