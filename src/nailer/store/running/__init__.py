"""What runners write of what they do: claims and leases, half files, limits of speed."""
