"""The conformance suite that others run over their own files and links."""
