"""What a realization is: number formats, terms, stages, networks, the flat program, its file."""
