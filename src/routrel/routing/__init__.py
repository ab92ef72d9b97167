"""Tables computed from the topology: one module per protocol, and the contest for each table entry."""
