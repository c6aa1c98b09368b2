"""The pure simulation: time, events, jobs, retries, faults and history.

Nothing in here reads a real clock, patches the interpreter, touches a file
or prints; it is used and tested on its own.
"""
