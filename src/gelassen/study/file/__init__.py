"""What is to be tested: `study.toml`, its checks, and how it is begun and edited."""
