"""People who sign in: how tries are counted, and how long one waits after refused ones."""
