"""A simulated network manager; its manual: ``demo/docs/lattice.md``."""
