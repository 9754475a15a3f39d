"""The window. The only part that imports Qt; it holds no motor arithmetic."""
