"""Each builds itself, shows a value, and tells what the hand did."""
