"""The relay's sockets and processes: one process forwards bytes and puts a copy aside, another
reads the copies.

`forwarding` takes connections; `backlog` is the bounded file between the two; `reading` turns what
lies there into a capture, in time that no one else wants.
"""
