"""What can be asked of one device: identity, clock, status, recordings, addresses."""
