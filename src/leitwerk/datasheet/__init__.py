"""The datasheet: what a device model is capable of, and where each point lives."""
