"""How it looks: one module of routes a view, templates, and the scripts that make pages live."""
