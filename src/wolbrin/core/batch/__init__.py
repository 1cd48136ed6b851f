"""Many runs on one history: what they share is worked out once."""
