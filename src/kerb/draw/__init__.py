"""The picture maker: arrays in, image out, no Qt."""
