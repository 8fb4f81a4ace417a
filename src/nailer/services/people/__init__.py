"""Who may sign in: accounts and sessions."""
