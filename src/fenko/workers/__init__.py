"""Who does the work of outputs that can wait for somebody else: in a process of their own, each with a thread of its own,
behind a bounded queue. A desk sends what is to be done and never waits; when it is gone, however that happened, what was
begun for it is ended."""
