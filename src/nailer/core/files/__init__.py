"""What a file is: its entry, path, names, access, text, and what a listing tells of it."""
