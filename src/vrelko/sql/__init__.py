"""Reading selects and building page statements; nothing here runs a statement."""
