"""Long work: what there is of it, how far each may go, and what its end can be."""
