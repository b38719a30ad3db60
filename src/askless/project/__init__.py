"""What a project says about itself in its `askless.toml`."""
