"""The edge to files: one small interface (`side.py`), and what fulfils it here, there and in memory."""
