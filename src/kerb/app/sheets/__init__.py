"""The panel on which a study is set up and read."""
