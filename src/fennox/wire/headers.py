"""Headers of answers, apart from their shapes: a command needs these at once, and those rarely."""

from __future__ import annotations

NOW = "fennox-now"
"""What the service's clock shows, in ISO 8601; ages of what it made count by that."""
