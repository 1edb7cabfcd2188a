"""One node on several processes behind one port: the parent that holds the sockets, and what the processes share."""
