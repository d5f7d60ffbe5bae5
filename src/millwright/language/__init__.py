"""From the text or the function of a definition to an expression tree, and back to text."""
