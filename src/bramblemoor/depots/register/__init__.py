"""What the ledger knows of depots, and the way to them."""
