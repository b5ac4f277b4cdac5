"""What follows from a realization without running it: transfer, bounds, noise, limit cycles, proved margins, facts."""
