"""Fender, a simulated endpoint manager. Its manual: ``demo/docs/fender.md``."""
