"""Pages of files: the ledger, previews, search, permissions, sieves."""
