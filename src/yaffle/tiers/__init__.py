"""What lies behind an answer: which exchanges a server made itself while it owed one, and where its time went."""
