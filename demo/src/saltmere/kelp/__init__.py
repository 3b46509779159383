"""A simulated member of a replicated directory; its manual: ``demo/docs/kelp.md``."""
