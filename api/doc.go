// Package api is the shapes of the API: requests, responses and problem documents, as they go between the service and
// its clients, one file for each noun. LSNs are text in the server's notation, times RFC 3339 in UTC, sizes bytes.
//
// Invariant: it holds no behaviour, so that the service, the command line and the maker of the API's description share
// it without sharing each other. What a field means is in its doc tag, from which docs/openapi.yaml and the console's
// types are made.
package api
