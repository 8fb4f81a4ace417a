"""What a file is: its entry, path, names, permissions, text, and what a listing tells of it."""
