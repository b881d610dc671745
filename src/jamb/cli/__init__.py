"""The command line, for people and for pipelines. Knows only the client library."""
