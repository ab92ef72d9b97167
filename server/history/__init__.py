"""What happened to a network: events as they were sent, and the state of a revision at a moment."""
