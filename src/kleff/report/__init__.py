"""What Kleff tells: documents for programs (JSON), lines for people, Markdown for the ticket."""
