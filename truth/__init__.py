"""The kernel's own word: a real source translator in network namespaces beside what Fenrask predicts."""
