"""Looking: contact sheets and pages."""
