"""A simulated log server; its manual: ``demo/docs/logline.md``."""
