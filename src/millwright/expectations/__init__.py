"""Linear systems in which today's values depend on what is expected of tomorrow's."""
