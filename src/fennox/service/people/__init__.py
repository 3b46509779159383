"""People: who they are, how they prove it, and what they may do."""
