"""The typed client. httpx is loaded without its own command line, which takes a third of the time
that it needs.
"""

import sys

sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]  # to Python, a module that cannot be had
