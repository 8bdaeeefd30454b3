"""Bytes and registers of the protocols, without a socket."""
