"""How two sides, or two texts, stand to each other: joints, the ledger, differences, merges."""
