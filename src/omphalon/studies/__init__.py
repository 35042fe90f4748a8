"""By question: each study has plan, fit and check, and answers with a Finding."""
