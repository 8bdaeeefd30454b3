"""Rules, switched outputs, planned runs and the texts of messages: definitions, and what is due now."""
