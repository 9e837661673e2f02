"""Playing, baking, and the curves under the frame ruler."""
