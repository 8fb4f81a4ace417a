"""The handbook."""
