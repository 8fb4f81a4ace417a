"""Use cases: what a person does, in the words they would use."""
