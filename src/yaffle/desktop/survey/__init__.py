"""Survey: the whole period at a glance."""
