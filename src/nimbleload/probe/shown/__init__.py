"""A plugin's own window, opened in the worker process that holds the plugin: one file a standard."""
