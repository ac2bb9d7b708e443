// Package service is the long-running process: it connects the parts of the service, which lie in folders of their own,
// runs them, and stops them in turn.
//
// Invariant: the catalogue says what is wanted, and the service makes it so, also after a restart. Every call is
// authenticated, but for the liveness check, the console's own files, and the exchange of a one-time link for a session.
// No part knows the whole: each is given what it needs, here. What is done is left to the parts and to the engine.
package service
