"""The model: session, cost, graph, block, moments, load and plan; no Qt, files, processes or clock."""
