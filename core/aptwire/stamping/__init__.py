"""Patterns put onto hosts: which NIC is which, the edit that stamps, and where hosts are off their pattern."""
