"""Kinds: how Fennox knows a system. The engine knows protocols and steps; only kind files know
systems.
"""
