// Command sbom writes a bill of materials of a built velvet in the CycloneDX format: the Go modules
// that are linked into it, as the binary itself says, and the packages that the console may hold, as
// its lock file says. It fails if a licence is none of those that are allowed, or cannot be told.
package main

import (
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
	classifier "github.com/google/licenseclassifier/v2"
	"github.com/google/licenseclassifier/v2/assets"
	"golang.org/x/mod/module"
)

// allowed are licences under which velvet can be given away as one program.
var allowed = []string{
	"0BSD", "Apache-2.0", "BlueOak-1.0.0", "BSD-2-Clause", "BSD-3-Clause", "CC0-1.0", "ISC", "MIT", "MIT-0", "MPL-2.0", "OFL-1.1",
	"Python-2.0", "Unlicense",
}

func main() {
	if len(os.Args) != 4 {
		_, _ = fmt.Fprintln(os.Stderr, "usage: sbom BINARY CONSOLE-LOCK-FILE MODULE-CACHE > velvet.cdx.json")
		os.Exit(2)
	}
	if err := write(os.Stdout, os.Args[1], os.Args[2], os.Args[3]); err != nil {
		_, _ = fmt.Fprintln(os.Stderr, "sbom:", err)
		os.Exit(1)
	}
}

func write(w io.Writer, binary, lock, cache string) error {
	info, err := buildinfo.ReadFile(binary)
	if err != nil {
		return err
	}
	modules, err := modulesOf(info.Deps, cache)
	if err != nil {
		return err
	}
	packages, err := packagesOf(lock)
	if err != nil {
		return err
	}
	all := append(modules, packages...)
	b := cdx.NewBOM()
	b.Metadata = &cdx.Metadata{Component: &cdx.Component{Type: cdx.ComponentTypeApplication, Name: "velvet", Version: info.Main.Version}}
	b.Components = &all
	return cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON).SetPretty(true).Encode(b)
}

// modulesOf describes modules that are in the module cache.
func modulesOf(deps []*debug.Module, cache string) (list []cdx.Component, err error) {
	texts, err := assets.DefaultClassifier()
	if err != nil {
		return nil, err
	}
	for _, m := range deps {
		if m.Replace != nil {
			m = m.Replace
		}
		dir, e := module.EscapePath(m.Path)
		if e != nil {
			return nil, e
		}
		licences, e := licencesIn(texts, filepath.Join(cache, dir+"@"+m.Version))
		err = errors.Join(err, check(m.Path, licences), e)
		list = append(list, component(m.Path, m.Version, "pkg:golang/"+m.Path+"@"+m.Version, licences))
	}
	return list, err
}

// alike is how much a text must be like a licence's.
const alike = 0.85

// licencesIn reads the licences in a module's own directory.
func licencesIn(texts *classifier.Classifier, dir string) (ids []string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name := strings.ToUpper(e.Name())
		if e.IsDir() || !strings.HasPrefix(name, "LICEN") && !strings.HasPrefix(name, "COPYING") && !strings.HasPrefix(name, "UNLICENSE") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		for _, m := range texts.Match(text).Matches {
			if m.MatchType == "License" && m.Confidence >= alike && !slices.Contains(ids, m.Name) {
				ids = append(ids, m.Name)
			}
		}
	}
	return ids, nil
}

// packagesOf reads the packages of an npm lock file. Those that only build the console are checked,
// and are no part of it.
func packagesOf(lock string) (list []cdx.Component, err error) {
	content, err := os.ReadFile(lock)
	if err != nil {
		return nil, err
	}
	var file struct {
		Packages map[string]struct {
			Version, License string
			Dev              bool
		}
	}
	if err := json.Unmarshal(content, &file); err != nil {
		return nil, fmt.Errorf("%s: %w", lock, err)
	}
	for path, p := range file.Packages {
		_, name, ok := strings.Cut(path, "node_modules/")
		if !ok {
			continue // the console itself
		}
		if i := strings.LastIndex(name, "node_modules/"); i >= 0 {
			name = name[i+len("node_modules/"):]
		}
		licences := strings.Split(strings.Trim(p.License, "()"), " OR ")
		err = errors.Join(err, check(name, licences))
		if !p.Dev {
			list = append(list, component(name, p.Version, "pkg:npm/"+strings.Replace(name, "@", "%40", 1)+"@"+p.Version, licences))
		}
	}
	slices.SortFunc(list, func(a, b cdx.Component) int { return strings.Compare(a.PackageURL, b.PackageURL) })
	return list, err
}

// check refuses a licence that is not allowed, and none at all.
func check(name string, licences []string) error {
	if len(licences) == 0 {
		return fmt.Errorf("%s: its licence cannot be told", name)
	}
	for _, l := range licences {
		if !slices.Contains(allowed, l) {
			return fmt.Errorf("%s: the licence %q is none of those that are allowed", name, l)
		}
	}
	return nil
}

func component(name, version, url string, licences []string) cdx.Component {
	var list cdx.Licenses
	for _, l := range licences {
		list = append(list, cdx.LicenseChoice{License: &cdx.License{ID: l}})
	}
	return cdx.Component{Type: cdx.ComponentTypeLibrary, BOMRef: url, Name: name, Version: version, PackageURL: url, Licenses: &list}
}
