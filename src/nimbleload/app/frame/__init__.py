"""The frame around the pages: window, menus, finder, help, and what is remembered of them."""
