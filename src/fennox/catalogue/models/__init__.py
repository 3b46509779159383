"""The catalogue: what Fennox knows. The database holds the invariants; the stores hold the backups.

All tables are loaded together because they refer to each other by name.
"""

from fennox.catalogue.models import (
    backups,
    base,
    concerns,
    drops,
    people,
    runs,
    service,
    stores,
    systems,
)

__all__ = ["backups", "base", "concerns", "drops", "people", "runs", "service", "stores", "systems"]
