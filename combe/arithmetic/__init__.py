"""From exact numbers to integers: formats, stages, the bit-true run and what rounding does to every limit."""
