"""Pages of pairs: the sync view, its runs, timers."""
