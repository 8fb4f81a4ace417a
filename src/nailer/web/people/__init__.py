"""Pages for signing in."""
