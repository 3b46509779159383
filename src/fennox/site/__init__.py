"""The worker of a remote site: makes the connections that the service cannot make itself."""
