"""What exactly changed between two readings of a system. Pure."""
