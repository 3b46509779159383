"""Contract suites, fault wrappers and strategies for anyone who writes a backend."""
