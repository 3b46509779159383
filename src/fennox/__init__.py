"""Fennox backs up the configuration of systems, restores it, and proves that everything is back."""

__version__ = "0.1.0"
