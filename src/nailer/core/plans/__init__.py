"""What many-file actions would do, what they leave out, and what there is to say before they run."""
