"""Accounts continuously for what passes, and gives how long users waited by the minute."""
