package parts

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/bodgit/sevenzip"
	"github.com/nwaples/rardecode/v2"

	"gullroute/internal/core/inert"
	"gullroute/internal/core/list"
	"gullroute/internal/core/message"
)

// formats of archives that are looked into.
const (
	formatZip   = "zip"
	formatTar   = "tar"
	formatGzip  = "gzip"
	formatBzip2 = "bzip2"
	format7z    = "7z"
	formatRar   = "rar"
	formatOther = "other" // an archive whose inside nobody here can read
)

func formatOf(f list.File) string {
	switch t := found(f); {
	case t == "application/x-tar":
		return formatTar
	case t == "application/gzip":
		return formatGzip
	case t == "application/x-bzip2":
		return formatBzip2
	case t == "application/x-7z-compressed":
		return format7z
	case t == "application/x-rar-compressed":
		return formatRar
	case t == "application/zip", t == "application/jar",
		strings.HasPrefix(t, "application/vnd.openxmlformats-officedocument"),
		strings.HasPrefix(t, "application/vnd.oasis.opendocument"),
		t == "application/vnd.android.package-archive", t == "application/epub+zip":
		return formatZip
	case slices.Contains(archiveTypes, t):
		return formatOther
	}
	return ""
}

func unpackable(f list.File) bool { return formatOf(f) != "" }

// errSpent ends the look into an archive at a bound.
var (
	errSpent = errors.New("it unpacks to more than is looked at")
	errMany  = fmt.Errorf("there are more than %d files in it", maxMembers)
	errBomb  = errors.New("it unpacks to more than a hundred times its size")
	errDeep  = fmt.Errorf("archives stand within archives more than %d deep", maxNested)
	errOther = errors.New("nobody here can look into this kind of archive")
)

// unpack looks into a part that is an archive.
func (s *scanner) unpack(p *Part, r io.ReaderAt) {
	x := &unpacker{scanner: s, part: p}
	err := x.look(p.File, "", r, p.Size, 0)
	switch {
	case errors.Is(err, errBomb):
		p.Bomb = true
		s.wrong("part %s, %s: %v", p.Path, nameOr(p.Name), err)
	case err != nil && !p.Encrypted:
		p.Broken = "it could not be looked into: " + err.Error()
		s.wrong("part %s, %s: %s", p.Path, nameOr(p.Name), p.Broken)
	}
}

func nameOr(name string) string {
	if name == "" {
		return "without a name"
	}
	return name
}

// unpacker looks into the archives of one part.
type unpacker struct {
	*scanner
	part *Part
}

// look lists an archive, and opens those in it.
func (x *unpacker) look(f list.File, at string, r io.ReaderAt, size int64, depth int) error {
	switch formatOf(f) {
	case formatZip:
		return x.zip(at, r, size, depth)
	case formatTar:
		return x.tar(at, io.NewSectionReader(r, 0, size), depth)
	case formatGzip:
		z, err := gzip.NewReader(io.NewSectionReader(r, 0, size))
		if err != nil {
			return err
		}
		var tail [4]byte // the size unpacked stands at the end (RFC 1952)
		_, _ = r.ReadAt(tail[:], size-int64(len(tail)))
		if whole := int64(binary.LittleEndian.Uint32(tail[:])); whole > bombSize &&
			whole/max(size, 1) > maxRatio {
			return errBomb
		}
		return x.compressed(at, strings.TrimSuffix(path.Base(f.Name), ".gz"), z, size, depth)
	case formatBzip2:
		return x.compressed(at, strings.TrimSuffix(path.Base(f.Name), ".bz2"),
			bzip2.NewReader(io.NewSectionReader(r, 0, size)), size, depth)
	case format7z:
		return x.sevenZip(at, r, size)
	case formatRar:
		return x.rar(at, io.NewSectionReader(r, 0, size))
	case formatOther:
		return errOther
	}
	return nil
}

// add puts a file of an archive on record.
func (x *unpacker) add(at, name string, size int64, head []byte) (list.File, error) {
	if x.members++; x.members > maxMembers {
		return list.File{}, errMany
	}
	name = inert.Clip(message.Decode(name), 255)
	f := fileOf(path.Base(strings.ReplaceAll(name, `\`, "/")), "", head)
	x.part.Inside = append(x.part.Inside, Member{Path: at + name, Size: size, File: f})
	if path.Base(name) == "vbaProject.bin" && at == "" {
		x.part.File.Groups = append(x.part.File.Groups, list.OfficeMacros)
	}
	return f, nil
}

// open looks at a file of an archive as it is unpacked.
func (x *unpacker) open(at, name string, size int64, r io.Reader, depth int) error {
	in := &spending{r, x.scanner}
	head := make([]byte, headSize)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	f, err := x.add(at, name, size, head[:n])
	if err != nil || formatOf(f) == "" {
		return err
	}
	if depth >= maxNested {
		return errDeep
	}
	keep, err := x.options.scratch()
	if err != nil {
		return err
	}
	defer func() { _ = keep.Close() }()
	if _, err := keep.Write(head[:n]); err != nil {
		return err
	}
	more, err := io.Copy(keep, in)
	if err != nil {
		return err
	}
	return x.look(f, at+name+"/", keep, int64(n)+more, depth+1)
}

// spending counts what is unpacked against the bound of the whole message.
type spending struct {
	r io.Reader
	s *scanner
}

func (c *spending) Read(p []byte) (int, error) {
	if c.s.inflated <= 0 {
		return 0, errSpent
	}
	n, err := c.r.Read(p[:min(int64(len(p)), c.s.inflated)])
	c.s.inflated -= int64(n)
	return n, err
}

// maxDirectory bounds what is read to list an archive, in octets.
const maxDirectory = 2 << 20

// meter bounds what a library reads while it lists an archive.
type meter struct {
	io.ReaderAt
	left int64
}

func (m *meter) ReadAt(p []byte, off int64) (int, error) {
	if m.left -= int64(len(p)); m.left < 0 {
		return 0, errMany
	}
	return m.ReaderAt.ReadAt(p, off)
}

func (x *unpacker) zip(at string, r io.ReaderAt, size int64, depth int) error {
	limited := &meter{r, maxDirectory}
	z, err := zip.NewReader(limited, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return err
	}
	if len(z.File) > maxMembers {
		return errMany
	}
	limited.left = 1 << 60
	var packed uint64
	for _, f := range z.File {
		packed += f.CompressedSize64
		if f.UncompressedSize64 > bombSize &&
			f.UncompressedSize64/max(f.CompressedSize64, 1) > maxRatio {
			return errBomb
		}
	}
	if packed > uint64(size)+uint64(size)/8 { // files that lie over each other
		return errBomb
	}
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		const encrypted = 1
		if f.Flags&encrypted != 0 {
			x.part.Encrypted = true
			if _, err := x.add(at, f.Name, int64(f.UncompressedSize64), nil); err != nil {
				return err
			}
			continue
		}
		in, err := f.Open()
		if err != nil {
			return fmt.Errorf("%s: %w", inert.Clip(f.Name, 100), err)
		}
		err = x.open(at, f.Name, int64(f.UncompressedSize64), in, depth)
		_ = in.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (x *unpacker) tar(at string, r io.Reader, depth int) error {
	t := tar.NewReader(&spending{r, x.scanner})
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if err := x.open(at, h.Name, h.Size, t, depth); err != nil {
			return err
		}
	}
}

// compressed looks into one compressed file, which may be a tar.
func (x *unpacker) compressed(at, name string, r io.Reader, size int64, depth int) error {
	before := x.inflated
	in := &spending{r, x.scanner}
	head := make([]byte, headSize)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	rest := io.MultiReader(bytes.NewReader(head[:n]), in)
	if formatOf(fileOf(name, "", head[:n])) == formatTar {
		err = x.tar(at, rest, depth)
	} else {
		err = x.open(at, name, -1, rest, depth)
		if err == nil { // the ratio is known only at the end, or at the bound
			_, err = io.Copy(io.Discard, in)
		}
	}
	if out := before - x.inflated; out > bombSize && out/max(size, 1) > maxRatio {
		return errBomb
	}
	if errors.Is(err, errSpent) {
		return nil // large, and no bomb: the kind of what is in it is known
	}
	return err
}

// maxDictionary bounds the memory that listing a 7z or rar takes, in octets.
const maxDictionary = 16 << 20

func (x *unpacker) sevenZip(at string, r io.ReaderAt, size int64) (err error) {
	defer func() { // a hostile file must not end the service, whatever the library thinks of it
		if p := recover(); p != nil {
			err = fmt.Errorf("it is broken: %v", p)
		}
	}()
	if err := checkSevenZip(r, size); err != nil {
		return err
	}
	z, err := sevenzip.NewReader(&meter{r, 4 * maxDirectory}, size)
	if err != nil {
		var locked *sevenzip.ReadError
		if errors.As(err, &locked) && locked.Encrypted {
			x.part.Encrypted = true
			return nil
		}
		return err
	}
	if len(z.File) > maxMembers {
		return errMany
	}
	var unpacked uint64
	for _, f := range z.File {
		unpacked += f.UncompressedSize
		if f.FileInfo().IsDir() {
			continue
		}
		if _, err := x.add(at, f.Name, int64(f.UncompressedSize), nil); err != nil {
			return err
		}
	}
	if unpacked > bombSize && unpacked/uint64(max(size, 1)) > maxRatio {
		return errBomb
	}
	return nil
}

// checkSevenZip refuses a list of files that would take very much memory to read: its size
// and the dictionary it asks for stand in the head of the list. It also finds a list that is
// encrypted.
func checkSevenZip(r io.ReaderAt, size int64) error {
	var start [32]byte
	if _, err := r.ReadAt(start[:], 0); err != nil {
		return err
	}
	at, n := binary.LittleEndian.Uint64(start[12:]), binary.LittleEndian.Uint64(start[20:])
	if at > uint64(size) || n > maxDirectory {
		return errMany
	}
	list := make([]byte, n)
	if _, err := r.ReadAt(list, int64(at)+int64(len(start))); err != nil && err != io.EOF {
		return err
	}
	const packedList = 0x17
	if len(list) == 0 || list[0] != packedList {
		return nil
	}
	lzma := []byte{3, 1, 1, 5} // the method and the length of its properties
	if i := bytes.Index(list, lzma); i >= 0 && i+9 <= len(list) &&
		binary.LittleEndian.Uint32(list[i+5:]) > maxDictionary {
		return errMany
	}
	return nil
}

func (x *unpacker) rar(at string, r io.Reader) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("it is broken: %v", p)
		}
	}()
	z, err := rardecode.NewReader(
		r,
		rardecode.MaxDictionarySize(maxDictionary),
		rardecode.SkipCheck,
	)
	if errors.Is(err, rardecode.ErrArchiveEncrypted) ||
		errors.Is(err, rardecode.ErrArchivedFileEncrypted) {
		x.part.Encrypted = true
		return nil
	}
	if err != nil {
		return err
	}
	for {
		h, err := z.Next()
		switch {
		case err == io.EOF:
			return nil
		case errors.Is(err, rardecode.ErrArchiveEncrypted),
			errors.Is(err, rardecode.ErrArchivedFileEncrypted):
			x.part.Encrypted = true
			return nil
		case err != nil:
			return err
		}
		x.part.Encrypted = x.part.Encrypted || h.Encrypted
		if h.IsDir {
			continue
		}
		if h.UnPackedSize > bombSize && h.UnPackedSize/max(h.PackedSize, 1) > maxRatio {
			return errBomb
		}
		if _, err := x.add(at, h.Name, h.UnPackedSize, nil); err != nil {
			return err
		}
	}
}
