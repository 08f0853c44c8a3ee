// A function without a body takes a file such as this.
