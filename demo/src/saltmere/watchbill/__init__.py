"""Watchbill, a simulated monitoring server. Its manual: ``demo/docs/watchbill.md``."""
