"""One folder per page or panel: routes (HTTP), schemas (what goes over the wire), service (the use case)."""
