"""Which endpoints there are: from application objects, OpenAPI documents, HAR files and access logs."""
