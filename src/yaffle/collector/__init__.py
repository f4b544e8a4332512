"""One background program that collects for months: what is received, and what this host tells of itself."""
