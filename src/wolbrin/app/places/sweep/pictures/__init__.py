"""Pictures of a sweep, all linked with its table and with each other."""
