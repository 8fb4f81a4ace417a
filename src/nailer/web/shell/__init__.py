"""What all pages share: the guard, forms, addresses, rendering."""
