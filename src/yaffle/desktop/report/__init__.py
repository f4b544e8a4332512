"""Report: what goes out, page by page, and the figures that prove causes, drawn by the window's own plots."""
