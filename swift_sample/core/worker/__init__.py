"""The process that renders and measures, and the typed messages that go to it and come back."""
