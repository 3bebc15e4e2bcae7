"""Cases: documents in numbered revisions, the blobs they name, and the audit trail."""
