"""The typed client. Loads httpx without its command line, which saves a third of the import
time.
"""

import sys

sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]  # to Python, a module that cannot be had
