"""What is kept of prompts and answers of language models, where a policy says so."""
