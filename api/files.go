package api

// FilesRequest asks for a base backup and the WAL up to a moment, as a tar stream.
type FilesRequest struct {
	Moment      string            `json:"moment" minLength:"1" doc:"in the moment language; a time needs its zone"`
	Root        string            `json:"root" minLength:"1" doc:"directory that the files will be unpacked in, on the machine where the server is to run"`
	Debian      string            `json:"debian,omitempty" doc:"name of a cluster: lay the files out below the root as Debian does, with the configuration in /etc/postgresql"`
	Port        int               `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"of the server; 0 for the original's"`
	Owner       string            `json:"owner,omitempty" doc:"user and group of the files in the stream"`
	Tablespaces map[string]string `json:"tablespaces,omitempty" doc:"where tablespaces will lie, by where they lay on the original"`
}
