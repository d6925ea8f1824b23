"""Every parser driven with inputs that a fuzzer makes: nothing else may come of them than an answer or a refusal in words."""
