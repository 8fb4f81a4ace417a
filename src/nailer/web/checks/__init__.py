"""Pages of what is known of a site."""
