"""The command `./bench run`: the run sheet without server or database."""
