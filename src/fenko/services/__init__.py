"""Work that would keep a running desk waiting, done in a second process that is started when it is needed."""
