"""One version of a package in the place of another: read, planned, built, exchanged, looked at, put back."""
