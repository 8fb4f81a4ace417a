"""Pairs of folders: readings, choices, runs, timers, and what is not sent yet."""
