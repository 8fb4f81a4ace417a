"""The side there by FTP (RFC 959): the control line, listings, encryption, and the side itself."""
