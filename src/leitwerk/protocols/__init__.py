"""Bytes, lines and registers of the protocols, without a socket."""
