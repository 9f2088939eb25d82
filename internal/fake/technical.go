package fake

// This file makes texts for machines: addresses of networks that are kept for
// documents, checksums, versions, files. None of them leads anywhere.

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
)

var (
	systems = strings.Fields("Linux Android macOS iOS Windows")
	// files are endings of files, each with its MIME type.
	files = [][2]string{
		{"pdf", "application/pdf"},
		{"jpg", "image/jpeg"},
		{"png", "image/png"},
		{"csv", "text/csv"},
		{"txt", "text/plain"},
		{"zip", "application/zip"},
		{"json", "application/json"},
		{"mp3", "audio/mpeg"},
		{"mp4", "video/mp4"},
		{"svg", "image/svg+xml"},
	}
)

// machine is how long the texts are that mean nothing when they are cut.
var machine = map[string]int{"ip": 15, "ipv6": 22, "mac": 17, "hex_color": 7, "iban": 22}

// Whole tells whether a generator's texts mean nothing when they are cut.
func Whole(generator string) bool {
	return machine[generator] > 0 ||
		generator != "street" && generator != "place" && generator != "city" && slices.Contains(PlaceKinds, generator)
}

// technical are the generators of this file.
func technical() []Generator {
	return []Generator{
		{Name: "ip", About: "203.0.113.17, of a network kept for documents", make: func(w *Want) string {
			return w.Random.Of([]string{"192.0.2.", "198.51.100.", "203.0.113."}) + strconv.FormatInt(
				w.Random.Between(1, 254),
				10,
			)
		}},
		{Name: "ipv6", About: "2001:db8::1f:3a2", make: func(w *Want) string {
			return fmt.Sprintf("2001:db8::%x:%x", w.Random.Between(1, 0xfff), w.Random.Between(1, 0xffff))
		}},
		{Name: "mac", About: "02:1b:7f:30:c4:9e, of no maker", make: func(w *Want) string {
			n := w.Random.Uint64()
			return fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", byte(n), byte(n>>8), byte(n>>16), byte(n>>24),
				byte(n>>32))
		}},
		{Name: "hostname", About: "lantern-3.meadow.example", make: func(w *Want) string {
			return slug(w.Random.Of(things)) + "-" + strconv.FormatInt(w.Random.Between(1, 9),
				10) + "." + domain(w.Random)
		}},
		{Name: "user_agent", About: "Meadow/3.2 (Linux)", make: func(w *Want) string {
			return fmt.Sprintf("%s/%d.%d (%s)", capital(slug(w.Random.Of(things))), w.Random.Between(1, 9),
				w.Random.Below(10), w.Random.Of(systems))
		}},
		{
			Name:  "hash",
			About: "so many digits of a checksum; 64",
			Args:  []Arg{{What: "length", Number: true, Optional: true}},
			make: func(w *Want) string {
				n := number(w, 0, 64)
				var b strings.Builder
				for b.Len() < n {
					fmt.Fprintf(&b, "%016x", w.Random.Uint64())
				}
				return b.String()[:n]
			},
		},
		{
			Name:  "hex_color",
			About: "#3a7f9c",
			make:  func(w *Want) string { return fmt.Sprintf("#%06x", w.Random.Below(1<<24)) },
		},
		{Name: "file_name", About: "quiet-lantern.pdf", make: func(w *Want) string {
			return slug(
				w.Random.Of(qualities)+" "+w.Random.Of(things),
			) + "." + files[w.Random.Below(uint64(len(files)))][0]
		}},
		{
			Name:  "mime_type",
			About: "application/pdf, of the row's file where it has one",
			From:  fileFields,
			make: func(w *Want) string {
				for _, f := range fileFields {
					name := w.row(f)
					for _, kind := range files {
						if strings.HasSuffix(name, "."+kind[0]) {
							return kind[1]
						}
					}
				}
				return files[w.Random.Below(uint64(len(files)))][1]
			},
		},
		{Name: "path", About: "/archive/quiet-lantern.pdf", make: func(w *Want) string {
			return "/" + slug(w.Random.Of(things)) + "/" + slug(
				w.Random.Of(qualities)+" "+w.Random.Of(things),
			) + "." + files[w.Random.Below(uint64(len(files)))][0]
		}},
		{Name: "image_url", About: "https://images.meadow.example/quiet-lantern.jpg", make: func(w *Want) string {
			return "https://images." + domain(w.Random) + "/" + slug(
				w.Random.Of(qualities)+" "+w.Random.Of(things),
			) + w.Random.Of([]string{".jpg", ".png"})
		}},
		{Name: "iban", About: "an account with the right checksum, at a bank that is none", make: iban},
		{
			Name:  "plain",
			About: "the words given, and a number: Shelf 37",
			Args:  []Arg{{What: "words"}},
			make: func(w *Want) string {
				return capital(w.Args[0]) + " " + strconv.FormatInt(w.Random.Between(1, 99), 10)
			},
		},
		{Name: "version", About: "2.4.1", make: func(w *Want) string {
			return fmt.Sprintf("%d.%d.%d", w.Random.Between(0, 5), w.Random.Below(12), w.Random.Below(20))
		}},
		{Name: "semver", About: "2.4.1-rc.2: some are not released yet", make: func(w *Want) string {
			s := fmt.Sprintf("%d.%d.%d", w.Random.Between(0, 5), w.Random.Below(12), w.Random.Below(20))
			if w.Random.Below(4) == 0 {
				s += fmt.Sprintf("-%s.%d", w.Random.Of([]string{"alpha", "beta", "rc"}), w.Random.Between(1, 4))
			}
			return s
		}},
	}
}

// fileFields are the fields that hold the name of a file.
var fileFields = []string{"file_name", "filename", "file", "path", "file_path", "attachment"}

// iban is an account of the bank 00000000, which there is not, with its checksum.
func iban(w *Want) string {
	account := digits(w.Random, "00000000##########")
	n, _ := new(big.Int).SetString(account+"131400", 10) // DE00 behind it, as numbers
	check := 98 - new(big.Int).Mod(n, big.NewInt(97)).Int64()
	return fmt.Sprintf("DE%02d%s", check, account)
}

// degrees writes ten-thousandths of a degree.
func degrees(n int64) string {
	sign := ""
	if n < 0 {
		sign, n = "-", -n
	}
	return fmt.Sprintf("%s%d.%04d", sign, n/10000, n%10000)
}
