"""Simulated devices that ship with the product: they speak open protocols well enough for common clients, and misbehave when told to."""
