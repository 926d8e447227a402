"""What commands share: options, opening a source, progress, pages, completion, the shapes of JSON."""
