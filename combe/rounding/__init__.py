"""How a filter becomes a realization: choices, structures, scaling, ordering."""
