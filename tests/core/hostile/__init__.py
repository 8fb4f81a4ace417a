"""Texts that are made to hold a reader up, and every reader of what others wrote."""
