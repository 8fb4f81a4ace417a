"""Pages of packages."""
