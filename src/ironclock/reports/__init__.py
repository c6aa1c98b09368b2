"""Reports: what people look at. They are made from a history alone, so that it can be a saved one."""
