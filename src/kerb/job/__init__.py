"""Holdings, studies, undo, record, save and load."""
