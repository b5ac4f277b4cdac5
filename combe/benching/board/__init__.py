"""A made-up recorder board: converter, double buffer, the filter's code, converter, all against a clock."""
