"""Everything that imports Qt, and nothing else does."""
