"""Tables computed from the topology: a module or folder per protocol, policies, and what passes between them."""
