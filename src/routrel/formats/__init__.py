"""Reading and writing: the network file, captures and archives, with located errors."""
