"""Values of the place: what belongs to a machine and its site rather than to the system. Pure."""
