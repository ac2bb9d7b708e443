// Package layout is the content format of the store: how bytes become frames,
// frames objects, and a base backup a manifest with packs. It encodes and decodes;
// it stores nothing.
//
// Invariant: whatever is read back was hashed when it was written, and a reader
// hands over no byte of a frame whose hash is wrong, nor a clean end of an object
// that was cut short. docs/formats.md draws the format byte by byte.
package layout
