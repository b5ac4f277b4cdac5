"""Filters that change the rate: one polyphase stage, or several in a row."""
