"""What one scan of a site tells: what its pages refer to, what anybody can download, where the room went."""
