"""The ledger: every wait cut into charges, each put to one party for one cause; they add up to the wait exactly."""
