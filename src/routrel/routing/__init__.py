"""Tables computed from the topology.

- ``protocol.py`` is the contract of a routing protocol and of what hangs on tables; ``registry.py`` lists the
  protocols, each in a room of its own: ``ospf/``, ``isis/``, ``rip/``, ``eigrp/``, ``bgp/``. No room knows another.
- ``prefixes/``: every prefix as a number, and the classes of prefixes that nothing tells apart.
- ``spf/``: distances, next hops and destinations of a flooding scope, for link-state protocols.
- ``rib/``: the table of a routing instance, its connected, static and observed routes, and how it is built.
- ``redistribution/``: what protocols put into each other, as a fixed point.
- ``supports.py`` tells the ports that lookups rest on, whichever others go down.
- ``policies.py`` asks a policy of many routes at once; ``neighbors.py`` has what all protocols share where two
  interfaces meet; ``arrays.py`` the types of arrays and what is done with them; ``routes.py`` the routes of tables.
- ``solve.py`` joins the stages: the one door to all of it.
"""
