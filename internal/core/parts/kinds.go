package parts

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/gabriel-vasile/mimetype"

	"gullroute/internal/core/list"
)

// Media types that are programs, and archives, by their octets.
var (
	programTypes = []string{
		"application/vnd.microsoft.portable-executable", "application/x-executable",
		"application/x-sharedlib", "application/x-object", "application/x-elf",
		"application/x-mach-binary", "application/x-java-applet", "application/jar",
		"application/java-archive", "application/vnd.android.package-archive", "application/wasm",
		"application/x-ms-installer", "application/x-ms-shortcut", "application/x-msdownload",
		"application/x-msdos-program", "application/x-sh", "application/x-chrome-extension",
		"text/x-php", "text/x-perl", "text/x-python", "text/x-shellscript", "text/x-tcl",
		"text/x-lua", "text/javascript", "application/javascript", "application/x-python-bytecode",
		"application/vnd.debian.binary-package", "application/x-rpm", "application/x-apple-diskimage",
	}
	archiveTypes = []string{
		"application/zip", "application/x-zip-compressed", "application/x-7z-compressed",
		"application/x-rar-compressed", "application/vnd.rar", "application/x-tar",
		"application/gzip", "application/x-gzip", "application/x-bzip2", "application/x-xz",
		"application/zstd", "application/lzip", "application/vnd.ms-cab-compressed",
		"application/x-iso9660-image", "application/x-unix-archive", "application/x-cpio",
	}
)

// programEndings are those of scripts and programs that have nothing telling in their
// octets, or run by their name alone.
var programEndings = strings.Fields(`.exe .com .scr .pif .bat .cmd .vbs .vbe .js .jse .wsf .wsh
	.wsc .ps1 .psm1 .hta .msi .msp .mst .cpl .jar .lnk .reg .dll .ocx .sys .gadget .application
	.appref-ms .chm .hlp .inf .scf .url .sh .bash .run .apk .app .command .workflow .py .pyz .pl
	.rb .php .elf .deb .rpm .xll .wll .settingcontent-ms .library-ms .search-ms .msc .img .vhd`)

// officeEndings are those of office documents that can hold macros by their very name.
var macroEndings = strings.Fields(`.docm .dotm .xlsm .xltm .xlam .pptm .potm .ppam .ppsm .sldm
	.xlsb`)

// fileOf says what a file is: by its octets, by what it is declared as, and by its name
// where only that makes it run.
func fileOf(name, declared string, head []byte) list.File {
	f := list.File{Name: name}
	addType := func(t string) {
		t, _, _ = strings.Cut(strings.ToLower(t), ";")
		if t = strings.TrimSpace(t); t != "" && !slices.Contains(f.Types, t) {
			f.Types = append(f.Types, t)
		}
	}
	addType(declared)
	if len(head) > 0 {
		addType(mimetype.Detect(head).String())
	}
	in := func(list []string) bool {
		return slices.ContainsFunc(f.Types, func(t string) bool { return slices.Contains(list, t) })
	}
	ending := strings.ToLower(path.Ext(strings.TrimRight(name, " .")))
	if in(programTypes) || slices.Contains(programEndings, ending) ||
		bytes.HasPrefix(head, []byte("#!")) || bytes.HasPrefix(head, []byte("MZ")) {
		f.Groups = append(f.Groups, list.Programs)
	}
	if slices.Contains(macroEndings, ending) {
		f.Groups = append(f.Groups, list.OfficeMacros)
	}
	if in(archiveTypes) {
		f.Groups = append(f.Groups, list.Archives)
	}
	if slices.ContainsFunc(f.Types,
		func(t string) bool { return strings.HasPrefix(t, "image/") }) {
		f.Groups = append(f.Groups, list.Pictures)
	}
	return f
}

// found is a file's media type by its octets.
func found(f list.File) string {
	if len(f.Types) == 0 {
		return ""
	}
	return f.Types[len(f.Types)-1]
}

// isOLE reports the container of older office documents and installers.
func isOLE(f list.File) bool {
	return slices.ContainsFunc(f.Types, func(t string) bool {
		m := mimetype.Lookup(t)
		for ; m != nil; m = m.Parent() {
			if m.Is("application/x-ole-storage") {
				return true
			}
		}
		return false
	})
}

// macroNames are names of streams that hold macros, as they stand in the directory.
var macroNames = [][]byte{inUTF16("_VBA_PROJECT"), inUTF16("Macros"), []byte("vbaProject.bin")}

func inUTF16(s string) []byte {
	out := make([]byte, 0, 2*len(s))
	for i := range len(s) {
		out = append(out, s[i], 0)
	}
	return out
}

// finder looks for the names of macros in what is written to it.
type finder struct {
	tail  []byte
	found bool
}

func (f *finder) Write(p []byte) (int, error) {
	if f.found {
		return len(p), nil
	}
	const overlap = 32
	window := append(f.tail, p...)
	for _, name := range macroNames {
		f.found = f.found || bytes.Contains(window, name)
	}
	f.tail = append(f.tail[:0], window[max(0, len(window)-overlap):]...)
	return len(p), nil
}

var twoEndings = regexp.MustCompile(
	`(?i)\.(pdf|docx?|xlsx?|pptx?|rtf|odt|ods|txt|csv|html?|jpe?g|` +
		`png|gif|bmp|tiff?|mp3|mp4|avi|mov|zip|eml|ics)[\s_.]*\.([a-z0-9]{1,8})$`,
)

// harmless endings that stand behind another for a reason.
var secondEndings = strings.Fields("gz bz2 xz zst asc sig gpg pgp p7s p7m sha256 md5 part")

// Deceives reports a name that looks like another kind of file than it is: with two endings,
// or with characters that turn the order of letters.
func Deceives(name string) bool {
	if strings.ContainsAny(name, "\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069") {
		return true
	}
	m := twoEndings.FindStringSubmatch(strings.TrimRight(name, " ."))
	return m != nil && !strings.EqualFold(m[1], m[2]) &&
		!slices.Contains(secondEndings, strings.ToLower(m[2]))
}
