"""Many-file actions: plans made and read, uploads, archives, removal, room, kept copies, notices."""
