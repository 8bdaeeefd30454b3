"""Exchanges: lines of text that two ends say to each other, described once. No port, clock or file."""
