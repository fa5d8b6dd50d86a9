// Package demo holds the made-up scenario: Fenmere Rivers Trust takes over
// Tolland Catchment Group, and its technician brings the two stores together.
// All names, places and data are invented.
package demo

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"deftheron/standin"
)

// Made is what Generate wrote.
type Made struct {
	Files int64
	Bytes int64
}

var (
	rivers = []string{"Fen Water", "River Tolle", "Alderbrook", "Sedge Drain", "Môr Bach", "Upper Withy"}
	gauges = []string{"Tollmouth", "Withy Weir", "Fen Bridge", "Old Sluice"}
	topics = []string{"Fish passage", "Abstraction", "Bank repair", "Invasive plants", "Flood storage", "Water quality"}
)

// epoch is when the scenario's data begin.
var epoch = time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)

// generator writes files below a folder, the same ones for the same seed.
type generator struct {
	root   string
	random *rand.Rand
	made   Made
	err    error
}

// The folders that Generate fills, one for each place.
const (
	DeskFolder  = "desk"        // the technician's own
	GaugeFolder = "gauge-share" // the loggers on the premises
)

// Generate writes the scenario's data below a folder, in one for each place: some
// 600 files and 80 MiB, with one file of 32 MiB, and names and sizes that are
// awkward on purpose.
func Generate(root string, seed uint64) (Made, error) {
	g := &generator{root: filepath.Join(root, DeskFolder), random: rand.New(rand.NewPCG(seed, 2026))}
	g.surveys()
	g.pictures()
	g.office()
	g.sounds()
	g.awkward()
	g.root = filepath.Join(root, GaugeFolder)
	g.gauges()
	return g.made, g.err
}

// write writes one file with a time of the scenario's.
func (g *generator) write(data []byte, age int, steps ...string) {
	if g.err != nil {
		return
	}
	path := filepath.Join(append([]string{g.root}, steps...)...)
	if g.err = os.MkdirAll(filepath.Dir(path), 0o755); g.err != nil {
		return
	}
	if g.err = os.WriteFile(path, data, 0o644); g.err != nil {
		return
	}
	modified := epoch.Add(time.Duration(age) * 7 * time.Hour)
	if g.err = os.Chtimes(path, modified, modified); g.err != nil {
		return
	}
	g.made.Files++
	g.made.Bytes += int64(len(data))
}

func (g *generator) surveys() {
	for r, river := range rivers {
		for visit := range 12 {
			day := epoch.AddDate(0, 0, r*3+visit*14).Format("2006-01-02")
			folder := []string{"Field surveys", "2026", river}
			at := func(name string) []string { return append(append([]string{}, folder...), name) }
			g.write(g.table(visit, 60+g.random.IntN(200)), r*12+visit, at("survey "+day+".csv")...)
			g.write(g.geojson(river, visit), r*12+visit, at("transects "+day+".geojson")...)
			note := fmt.Sprintf("Visit %d at %s on %s\n\nThe water stood %d cm below the mark. %s: see the sheet.\n", visit+1, river, day,
				10+g.random.IntN(80), topics[visit%len(topics)])
			g.write([]byte(note), r*12+visit, at("notes "+day+".txt")...)
		}
	}
}

// table is a survey's sheet as CSV.
func (g *generator) table(visit, rows int) []byte {
	var b bytes.Buffer
	b.WriteString("site,species,count,length_mm,temperature_c,oxygen_mg_l\n")
	species := []string{"brown trout", "bullhead", "stone loach", "minnow", "eel", "stickleback"}
	for row := range rows {
		fmt.Fprintf(&b, "S%02d-%03d,%s,%d,%d,%.1f,%.2f\n", visit, row, species[g.random.IntN(len(species))], 1+g.random.IntN(40),
			30+g.random.IntN(400), 6+g.random.Float64()*12, 7+g.random.Float64()*5)
	}
	return b.Bytes()
}

func (g *generator) geojson(river string, visit int) []byte {
	var b bytes.Buffer
	b.WriteString(`{"type":"FeatureCollection","features":[`)
	for line := range 20 {
		if line > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `{"type":"Feature","properties":{"river":%q,"visit":%d,"transect":%d},"geometry":{"type":"LineString","coordinates":[`,
			river, visit, line)
		for point := range 30 {
			if point > 0 {
				b.WriteByte(',')
			}
			fmt.Fprintf(&b, "[%.6f,%.6f]", 0.1+g.random.Float64()/10+float64(point)/1000, 52.1+g.random.Float64()/10)
		}
		b.WriteString("]}}")
	}
	b.WriteString("]}\n")
	return b.Bytes()
}

// pictures are drone pictures; some of them lie in the office's folders again.
func (g *generator) pictures() {
	for n := range 110 {
		river := rivers[n%len(rivers)]
		data := g.jpeg(1180, 800)
		name := fmt.Sprintf("DRONE_%04d.JPG", 1000+n)
		g.write(data, 100+n, "Field surveys", "Drone pictures", river, name)
		if n%5 == 0 {
			g.write(data, 100+n, "Office", "Pictures for reports", strings.ToLower(name))
		}
	}
	g.write(g.png(600, 400), 230, "Office", "Logos", "Fenmere Rivers Trust.png")
	g.write(g.png(600, 400), 231, "Office", "Logos", "Tolland Catchment Group.png")
}

func (g *generator) picture(width, height int) *image.RGBA {
	picture := image.NewRGBA(image.Rect(0, 0, width, height))
	phase := g.random.Float64() * 6
	for y := range height {
		bank := 0.5 + 0.2*math.Sin(float64(y)/90+phase)
		for x := range width {
			distance := math.Abs(float64(x)/float64(width) - bank)
			noise := uint8(g.random.Uint32N(64))
			if distance < 0.08 {
				picture.SetRGBA(x, y, color.RGBA{40 + noise/2, 90 + noise/2, 120 + noise, 255})
			} else {
				picture.SetRGBA(x, y, color.RGBA{70 + noise, 110 + noise, 60 + noise/2, 255})
			}
		}
	}
	return picture
}

func (g *generator) jpeg(width, height int) []byte {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, g.picture(width, height), &jpeg.Options{Quality: 80}); err != nil {
		g.err = err
	}
	return b.Bytes()
}

func (g *generator) png(width, height int) []byte {
	var b bytes.Buffer
	if err := png.Encode(&b, g.picture(width, height)); err != nil {
		g.err = err
	}
	return b.Bytes()
}

func (g *generator) office() {
	for n := range 60 {
		topic := topics[n%len(topics)]
		title := fmt.Sprintf("%s at %s, report %d", topic, rivers[n%len(rivers)], n+1)
		g.write(standin.PDF(title, g.paragraph(40)), 240+n, "Office", "Reports", topic, title+".pdf")
	}
	for n := range 30 {
		title := fmt.Sprintf("Permit %d/%d", 2020+n%7, 300+n)
		g.write(standin.PDF(title, g.paragraph(12)), 300+n, "Office", "Permits", strings.ReplaceAll(title, "/", "-")+".pdf")
	}
}

func (g *generator) paragraph(lines int) []string {
	words := strings.Fields("the river bank was seen to hold water above mark and reeds grew where weir gates had been left open since " +
		"spring survey")
	text := make([]string, lines)
	for i := range text {
		var line []string
		for range 10 {
			line = append(line, words[g.random.IntN(len(words))])
		}
		text[i] = strings.Join(line, " ") + "."
	}
	return text
}

func (g *generator) gauges() {
	for i, gauge := range gauges {
		for day := range 32 {
			from := epoch.AddDate(0, 0, day)
			g.write(readings(g.random, i, from, 480, 3*time.Minute), 330+day, gauge, from.Format("2006-01-02")+".csv")
		}
	}
}

// readings are a logger's, one line for each moment, as CSV.
func readings(random *rand.Rand, gauge int, from time.Time, lines int, every time.Duration) []byte {
	var b bytes.Buffer
	b.WriteString("time,level_m,flow_m3_s,battery_v\n")
	for line := range lines {
		at := from.Add(time.Duration(line) * every)
		level := 0.8 + 0.3*math.Sin(at.Sub(epoch).Minutes()/900+float64(gauge)) + random.Float64()/50
		fmt.Fprintf(&b, "%s,%.3f,%.3f,%.2f\n", at.Format(time.RFC3339), level, level*level*4, 12+random.Float64())
	}
	return b.Bytes()
}

// Log adds a file of new readings to the gauges' folder every so often, until the
// context ends. Each appears whole.
func Log(ctx context.Context, folder string, every time.Duration) error {
	random := rand.New(rand.NewPCG(Seed, uint64(time.Now().UnixNano())))
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return nil
		case now := <-ticker.C:
			gauge := n % len(gauges)
			path := filepath.Join(folder, gauges[gauge], "live", now.Format("2006-01-02 15.04.05")+".csv")
			data := readings(random, gauge, now.Add(-every).Truncate(time.Second), int(every/time.Second), time.Second)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
			arriving := filepath.Join(filepath.Dir(folder), "logger.tmp")
			if err := os.WriteFile(arriving, data, 0o644); err != nil {
				return err
			}
			if err := os.Rename(arriving, path); err != nil {
				return err
			}
		}
	}
}

// wav is noise of a river, 16 bits, one channel, 44.1 kHz (RIFF WAVE).
func (g *generator) wav(size int) []byte {
	data := make([]byte, size)
	header := bytes.NewBuffer(data[:0])
	header.WriteString("RIFF")
	header.Write(binary.LittleEndian.AppendUint32(nil, uint32(size-8)))
	header.WriteString("WAVEfmt ")
	for _, field := range []uint32{16, 1 | 1<<16, 44100, 88200, 2 | 16<<16} {
		header.Write(binary.LittleEndian.AppendUint32(nil, field))
	}
	header.WriteString("data")
	header.Write(binary.LittleEndian.AppendUint32(nil, uint32(size-44)))
	var last float64
	for at := 44; at+1 < size; at += 2 {
		last = last*0.97 + (g.random.Float64()-0.5)*2000
		binary.LittleEndian.PutUint16(data[at:], uint16(int16(last)))
	}
	return data
}

func (g *generator) sounds() {
	g.write(g.wav(32<<20), 370, "Field surveys", "Hydrophone", "Withy Weir, one night.wav")
	for n := range 6 {
		g.write(g.wav(512<<10), 371+n, "Field surveys", "Hydrophone", fmt.Sprintf("clip %d.wav", n+1))
	}
}

// awkward are names and sizes that stores and programs stumble over.
func (g *generator) awkward() {
	note := func(text string) []byte { return []byte(text + "\n") }
	folder := "Odd names, kept on purpose"
	for name, text := range map[string]string{
		"caf\u00e9 at the weir.txt":          "é as one character (NFC)",
		"cafe\u0301 at the weir.txt":         "é as two characters (NFD)",
		"otter seen 🦦 great day.txt":         "an emoji",
		"see also...":                        "trailing dots",
		"README.txt":                         "a letter-case twin",
		"readme.TXT":                         "a letter-case twin",
		"100% done, #4 + more & co?.txt":     "characters that URLs use",
		" leading and trailing space ":       "spaces at both ends",
		strings.Repeat("long ", 47) + "x.md": "a name of 240 bytes",
		"not%2Fa slash.txt":                  "looks escaped, and is not",
		"日本の川.txt":                           "another script",
	} {
		g.write(note(text), 380, folder, name)
	}
	g.write(nil, 381, folder, "empty file.dat")
	g.write(nil, 382, folder, "empty.csv")
	deep := []string{folder}
	for i := range 12 {
		deep = append(deep, fmt.Sprintf("a folder in a folder, level %02d, with a long name of its own", i+1))
	}
	g.write(note("at the end of a long path"), 383, append(deep, "found.txt")...)
	same := note(strings.Repeat("the same text in two places\n", 100))
	g.write(same, 384, folder, "duplicate one.txt")
	g.write(same, 385, folder, "duplicate two.txt")
	if g.err == nil {
		g.err = os.MkdirAll(filepath.Join(g.root, folder, "an empty folder"), 0o755)
	}
}
