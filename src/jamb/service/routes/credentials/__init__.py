"""How clients prove themselves."""
