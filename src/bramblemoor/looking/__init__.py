"""Looking: thumbnails, contact sheets, and pages that open in any browser with no tool."""
