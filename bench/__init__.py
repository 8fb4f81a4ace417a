"""Measures Nailer side by side with the bare libraries: `./nailer bench`. Ratios, never times, are what counts."""
