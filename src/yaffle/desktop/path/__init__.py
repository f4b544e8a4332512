"""Path: segments between points, streams, flow paths, classes, and the map."""
