// Command oci writes an image in the OCI layout, in one tar file, without a daemon: the program and
// the certificates of the world's authorities, nothing else.
package main

import (
	"archive/tar"
	"bytes"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// authorities are those that Debian's ca-certificates keeps.
const authorities = "/etc/ssl/certs/ca-certificates.crt"

func main() {
	program := flag.String("program", "", "the program")
	arch := flag.String("arch", "amd64", "the machine that it is for")
	version := flag.String("version", "", "its version")
	target := flag.String("target", "", "the file to write")
	flag.Parse()
	if err := write(*program, *arch, *version, *target); err != nil {
		fmt.Fprintln(os.Stderr, "oci:", err)
		os.Exit(1)
	}
}

func write(program, arch, version, target string) error {
	seconds, _ := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64)
	made := time.Unix(seconds, 0).UTC()
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	for _, f := range []struct {
		name, from string
		mode       int64
	}{{"etc/ssl/certs/ca-certificates.crt", authorities, 0o644}, {"usr/bin/gull", program, 0o755}} {
		text, err := os.ReadFile(f.from)
		if err != nil {
			return err
		}
		if err := t.WriteHeader(&tar.Header{Name: f.name, Mode: f.mode, Size: int64(len(text)), ModTime: made}); err != nil {
			return err
		}
		if _, err := t.Write(text); err != nil {
			return err
		}
	}
	for _, dir := range []string{"var/lib/gull/", "var/spool/gull/"} {
		if err := t.WriteHeader(&tar.Header{Name: dir, Typeflag: tar.TypeDir, Mode: 0o700, Uid: 65532, Gid: 65532,
			ModTime: made}); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(b.Bytes())), nil
	}, tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return err
	}
	image, err := mutate.AppendLayers(
		mutate.MediaType(mutate.ConfigMediaType(empty.Image, types.OCIConfigJSON),
			types.OCIManifestSchema1),
		layer,
	)
	if err != nil {
		return err
	}
	image, err = mutate.ConfigFile(image, &v1.ConfigFile{
		Architecture: arch, OS: "linux", Created: v1.Time{Time: made},
		RootFS:  rootFS(image),
		History: []v1.History{{Created: v1.Time{Time: made}, CreatedBy: "scripts/package"}},
		Config: v1.Config{
			Entrypoint: []string{"/usr/bin/gull"},
			Cmd: []string{
				"serve",
				"--key-file",
				"/var/lib/gull/key",
				"--spool",
				"/var/spool/gull",
			},
			User:    "65532:65532",
			Volumes: map[string]struct{}{"/var/lib/gull": {}, "/var/spool/gull": {}},
			Env:     []string{"PATH=/usr/bin"},
			Labels: map[string]string{
				"org.opencontainers.image.title":   "gull-route",
				"org.opencontainers.image.version": version,
			},
		},
	})
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "gull-oci-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	path, err := layout.Write(dir, empty.Index)
	if err != nil {
		return err
	}
	if err := path.AppendImage(image, layout.WithAnnotations(map[string]string{
		"org.opencontainers.image.ref.name": version})); err != nil {
		return err
	}
	return pack(dir, target, made)
}

func rootFS(i v1.Image) v1.RootFS {
	c, err := i.ConfigFile()
	if err != nil {
		return v1.RootFS{}
	}
	return c.RootFS
}

// pack puts the files of a directory into a tar file, in order and with one time.
func pack(dir, target string, made time.Time) error {
	out, err := os.Create(target)
	if err != nil {
		return err
	}
	t := tar.NewWriter(out)
	err = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(dir, path)
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text)), ModTime: made}); err != nil {
			return err
		}
		_, err = t.Write(text)
		return err
	})
	if err == nil {
		err = t.Close()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	return err
}
