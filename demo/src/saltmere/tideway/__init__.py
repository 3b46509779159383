"""Tideway, a simulated address server. Its manual: ``demo/docs/tideway.md``."""
