"""Proofs on the real device: live check, loop check, alarm proof."""
