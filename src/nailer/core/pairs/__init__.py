"""Keeping two trees in sync: what differs, what is proposed, and the steps of a plan."""
