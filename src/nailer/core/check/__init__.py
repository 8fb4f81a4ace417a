"""Checks of contents: what they refer to, and what is wrong in them. Text in, findings out."""
