"""Questions on top of tables and walks: causes with remedies, evidence, problems of the model."""
