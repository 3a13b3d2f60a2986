"""How right the findings are: clean clips, damaged in known ways, and what the analysis says of them."""
