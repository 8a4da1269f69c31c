"""The pages of the window: what stands beside the ledger, one at a time."""
