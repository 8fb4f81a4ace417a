"""Who a server is: host keys, certificates, and OpenSSH's list of known hosts."""
