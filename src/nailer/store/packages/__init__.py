"""What is known of packages: what is set aside, searches, and verified copies."""
