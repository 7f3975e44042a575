"""Does it fit, and how does it have to be moved? A cloud or model brought into line with another."""
