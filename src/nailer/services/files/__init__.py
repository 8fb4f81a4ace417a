"""Seeing and changing single files: browsing, search, access, guarded folders, trees, sieves."""
