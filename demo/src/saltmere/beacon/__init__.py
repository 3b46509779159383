"""Beacon, a simulated recorder manager. Its manual: ``demo/docs/beacon.md``."""
