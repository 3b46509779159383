"""Hailer, a simulated voice mail. Its manual: ``demo/docs/hailer.md``."""
