"""A case on disk: a folder of mapped columns and a small manifest. Opening it again reads no capture."""
