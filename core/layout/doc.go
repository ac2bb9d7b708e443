// Package layout is the content format of the store: how bytes become frames, frames
// objects and packs, and a base backup a manifest whose files are maps of extents. It
// encodes and decodes; it stores nothing.
//
// Invariant: whatever is read back was hashed or authenticated when it was written, and
// a reader hands over no byte of a frame that is not what was written there, nor a clean
// end of an object that was cut short. A frame belongs to its place in its object: under
// a key it opens nowhere else. docs/formats.md draws the format byte by byte.
package layout
