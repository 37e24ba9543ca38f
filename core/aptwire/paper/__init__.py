"""What people take along: sheets of segments, cables, ports and guests, and a report of a plan."""
