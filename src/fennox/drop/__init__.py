"""The receiving end: servers to which systems push files, and the spool where these wait until a
take has put them into a backup. Needs no database.
"""
