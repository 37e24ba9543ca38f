"""What must hold of a plan, in sentences."""
