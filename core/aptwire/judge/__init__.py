"""Judging: where every endpoint lands, against where it belongs; findings, proofs and mends."""
