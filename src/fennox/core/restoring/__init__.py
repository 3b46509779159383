"""Restores: from backup, target and choices to findings and steps, and from a done restore to its
proof.
"""
