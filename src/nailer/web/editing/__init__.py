"""Pages of the editor and of the checks of a site."""
