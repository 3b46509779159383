"""Orlop, a simulated manager of virtualization hosts. Its manual: ``demo/docs/orlop.md``."""
