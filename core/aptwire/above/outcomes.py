"""What becomes of a question above layer 2."""

ANSWERED, SILENT, UNPROVEN, WAVERS = "answered", "silent", "unproven", "wavers"
"""An answer in every state; in none; nobody can know; in some of them."""
BEST_FIRST = (ANSWERED, WAVERS, UNPROVEN, SILENT)
