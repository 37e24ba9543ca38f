"""What people want done at once on hosts and fabric, as edits: each asks for a few things and finds the rest."""
