"""What a realization does to samples, bit for bit."""
