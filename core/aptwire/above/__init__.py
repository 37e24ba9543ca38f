"""Above layer 2: who sends packets where, and whether they are answered.  What it needs of layer 2 it asks of the engine, place by place and state by state."""
