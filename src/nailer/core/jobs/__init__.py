"""Jobs as they run: their states, progress, retries, limits of speed and timetables."""
