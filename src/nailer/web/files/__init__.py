"""Pages of files: the ledger, previews, search, access, sieves."""
