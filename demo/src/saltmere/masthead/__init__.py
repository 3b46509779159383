"""Masthead, a simulated monitoring server. Its manual: ``demo/docs/masthead.md``."""
