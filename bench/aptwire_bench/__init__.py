"""The bench: a plan built in a disposable Linux kernel, asked with real frames, held against the engine's answers."""
