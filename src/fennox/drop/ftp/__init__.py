"""The FTP server of the receiving end (RFC 959, by pyftpdlib), with TLS (RFC 4217)."""
