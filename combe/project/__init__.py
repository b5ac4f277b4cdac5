"""The document an engineer works on: its value, its file, and the demo that ships with Combe."""
