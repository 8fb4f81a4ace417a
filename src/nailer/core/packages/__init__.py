"""Packages of a site: versions, what declares them, what a replacement does, and the search for what breaks a page."""
