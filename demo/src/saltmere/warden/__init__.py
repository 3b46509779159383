"""Warden, a simulated access-policy server. Its manual: ``demo/docs/warden.md``."""
