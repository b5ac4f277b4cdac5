"""Every page of the window that shows something: one file each, one line in the register."""
