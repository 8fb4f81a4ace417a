"""The API for programs: `/api/v1`, described by `/api/v1/openapi.json` and docs/api.md."""
