"""Hosting that ships with Nailer: small, healthy servers that speak the real protocols over real sockets."""
