"""The routes, a module a noun."""
