// Package cli is the velvet command line: one file for each noun. Everything but
// `segment deliver` goes through the service's API.
//
// Exit codes: 0 done, 1 failed, 2 the command makes no sense, 3 refused until it is
// confirmed, 4 a proof failed.
package cli
