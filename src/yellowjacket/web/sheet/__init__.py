"""The sheet that every page of a sitting stands on: the stave, its lines, and the charts they unfold to."""
