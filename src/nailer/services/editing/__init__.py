"""Editing files: drafts, saving with care, a person's own editor, the live check, scripts, references."""
