"""Getting connected: protocols, letters from hosts, and what a failed sign-in means."""
