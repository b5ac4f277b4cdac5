"""FIR designs of particular kinds, one file each."""
