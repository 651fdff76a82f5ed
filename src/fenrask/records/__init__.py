"""What was observed, held against the plan: connections, sources, names, bills, configurations; and drafts of it."""
