"""What Kleff promises of a Windows, held on a machine that nobody needs."""
