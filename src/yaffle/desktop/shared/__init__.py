"""What all stations and the window share: plots, tables, bars, jobs, colors."""
