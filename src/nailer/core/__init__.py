"""The rules of the job: pure functions and immutable values. No I/O, no clock, no framework."""
