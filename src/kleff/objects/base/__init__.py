"""What all kinds of object share: actions, the context they are planned in, the duties and abilities of a kind."""
