"""The race in a target's currency: complete realizations that keep every limit, cheapest on a core or a device first."""
