"""Gullery, a simulated collector controller. Its manual: ``demo/docs/gullery.md``."""
