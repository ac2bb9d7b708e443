// Package service is the long-running process: it holds the captures, runs tasks
// from the queue, and serves the API and the console.
//
// Rules:
//   - The catalogue says what is wanted; the service makes it so, also after a
//     restart. Work that an instance left unfinished when it died is undone or
//     finished by whoever notices first.
//   - Long work is a task. A request only checks, submits and answers.
//   - Every call is authenticated, but for the liveness check, the console's own
//     files, and the exchange of a one-time link for a session.
package service
