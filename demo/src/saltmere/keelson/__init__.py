"""Keelson, a simulated virtualization host. Its manual: ``demo/docs/keelson.md``."""
