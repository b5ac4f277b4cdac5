"""Searches for the cheapest integers that hold: better integers, adders, signed digits."""
