"""How clients prove themselves: credentials of every kind, their rotation and delivery."""
