"""Reading an OpenAPI description into one internal form, whatever its version, syntax and files."""
