"""The routing information base: one table per routing instance (RFC 8349 section 5).

``table`` chooses the best route of each prefix among protocols, connected, static and observed routes, and asks the
instance's install policy. ``builder`` makes tables: ``connected`` and ``static`` routes first, protocols' rows as they
are now, then static routes that ask the table; ``observed`` routes are those read off a device that is known by them
alone. ``route_columns`` has the routes of no protocol as arrays.
"""
