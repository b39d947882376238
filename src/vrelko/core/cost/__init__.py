"""What page statements ask of a server, how long that takes, and how sure that is."""
