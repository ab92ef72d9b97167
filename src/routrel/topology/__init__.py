"""Segments and who is on them, derived from cabling, VLANs and subnets."""
