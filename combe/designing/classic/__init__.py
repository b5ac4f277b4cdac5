"""The classic IIR families, from analog prototypes to sections."""
