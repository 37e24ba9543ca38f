"""What a plan stands: which processor cores serve which NIC."""
