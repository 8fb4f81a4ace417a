"""Pages of sites: the overview, adding one, its connection and settings, identities."""
