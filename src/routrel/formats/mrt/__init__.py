"""Routing information as MRT keeps it (RFC 6396, 8050): what BGP speakers hold of their neighbours.

records        where each record of a file begins and ends, packed files unpacked within bounds
attributes     path attributes as BGP's messages carry them (RFC 4271 section 4.3)
messages       BGP's UPDATE messages, malformed ones by RFC 7606
updates        BGP4MP: what neighbours announced and withdrew, and when sessions came and went
table_dumps    TABLE_DUMP_V2: the paths of a speaker by neighbour and prefix
dumped_tables  dumps beside devices: received paths of their sessions, or the table they forward by
"""
