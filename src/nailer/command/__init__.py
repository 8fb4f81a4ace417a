"""The command line for people and pipelines: it speaks to a Nailer over its API, and needs nothing of the server's."""
