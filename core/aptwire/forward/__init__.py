"""Forwarding: from a plan's wiring to who hears whom (IEEE 802.1Q-2022 clauses 6.9 and 8.6)."""
