"""Routrel's computing core: text in, an immutable network, tables, and packets walked over them."""

__version__ = "0.28.0"
