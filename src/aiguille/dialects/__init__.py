"""Makes described as data: one `*.dialect.yaml` each."""
