"""Listening to routers that tell what their BGP neighbours say, by BMP (RFC 7854), as it happens.

messages   what is sent: messages of a speaker, as records of MRT (RFC 6396) that say the same
spool      files that records go to: what is in one is on disk, and a file that is full is sent on
station    who listens: connections, each with its speaker, and what is wrong with them

A record is written as it comes and never read again here: whatever reads files of updates (``formats/mrt``) knows them.
"""
