"""The page Measure: settings, how far measuring is, cost cards."""
