"""Packets walked over the tables: flows, the walk, and where it starts."""
