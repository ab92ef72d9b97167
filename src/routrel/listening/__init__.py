"""Listening to devices that tell what happens, as it happens.

speaking   what a station needs of whoever speaks
bmp        what routers say of their BGP neighbours (RFC 7854), as records of MRT (RFC 6396) that say the same
syslog     messages of syslog (RFC 5424, 6587) as events; rules: what a message means
spool      files that records go to: what is in one is on disk, and a file that is full is sent on
station    who listens: connections, each with its speaker, and what is wrong with them

A record is written as it comes and never read again here: whatever reads files of events and updates knows them.
"""
