"""Where guests can run: guest by host, and what becomes of a host's guests when it is taken out."""
