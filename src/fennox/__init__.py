"""Fennox keeps the configuration of systems safe, puts it back, and proves that everything is there
again.
"""

__version__ = "0.1.0"
