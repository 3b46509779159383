"""The store format: bytes in, bytes out. ``docs/store-format.md`` is its specification and is cited
by section (§).
"""
