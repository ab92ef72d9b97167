"""ISIS for one prefix in plain code, and its part of explanations."""
