"""The C that is handed over: a folder that compiles as it is, and the controllers alone."""
