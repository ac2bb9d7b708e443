// Package vault reads and writes what a store holds: it seals every object when it is
// written, verifies every byte when it is read, and takes what the store lacks or has
// damaged from a second one, if there is one.
//
// Invariant: nothing but the store's own record is written in the clear once a store is
// encrypted, and the key to it is in that record only as wrapped for those who may open
// it. Objects are never changed: the second store's are the same, byte for byte.
package vault
