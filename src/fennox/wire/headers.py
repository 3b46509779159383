"""Response headers, separate from the models: commands always need these, but few of those."""

from __future__ import annotations

NOW = "fennox-now"
"""What the service's clock shows, in ISO 8601; ages of what it made count by that."""
