"""From readings to verdicts: diagnosis, the signal chain, dry runs."""
