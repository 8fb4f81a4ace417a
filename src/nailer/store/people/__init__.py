"""People: accounts and sessions, what proves who they are, what they may do, and what they did."""
