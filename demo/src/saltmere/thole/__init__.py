"""Thole, a simulated chassis manager. Its manual: ``demo/docs/thole.md``."""
