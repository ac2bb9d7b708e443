// Package copies makes and keeps side copies: restored clusters in a directory and
// on a port of their own.
//
// Invariant: a copy cannot disturb its original. Its configuration is written here from nothing, never taken over: no
// archiving, no connection to a primary, no standby to wait for, no preloaded libraries, no jobs, loopback only. A
// copy that could not be made leaves no server and no directory behind. Whether what came back is right is package
// prove's to find out.
package copies

// Servers of copies trust the OS user over their Unix socket, in a directory that
// only that user may enter; everyone else logs in as on the original.
const hba = `# Written by Velvet Rewind for a side copy.
# The Unix socket lies in a directory that only the servers' OS user may enter.
local all all trust
# Roles log in with the passwords that they had; "md5" admits SCRAM passwords too.
host all all 127.0.0.1/32 md5
host all all ::1/128 md5
`
