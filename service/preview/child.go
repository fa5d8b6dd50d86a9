package preview

import (
	"bufio"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // first images of GIF
	"image/jpeg"
	"image/png"
	"io"
	"os"
	"strconv"

	_ "golang.org/x/image/bmp" // BMP
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff" // TIFF
	_ "golang.org/x/image/webp" // WebP
)

// ChildArgument is the first argument of this program as a child that reads one file.
const ChildArgument = "preview-child"

const (
	// mostPixels is how many pixels a picture may have. It is looked at before it is decoded.
	mostPixels = 50_000_000
	// childMemory is how many bytes of data a child may have, and childSeconds how much
	// processor time.
	childMemory  = 640 << 20
	childSeconds = 10
)

// Child reads the file at its standard input and writes its preview to its standard output. Its
// arguments are those that a Maker gives. It returns the exit code of the process.
func Child(args []string) int {
	if err := child(args); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}

func child(args []string) error {
	if len(args) != 2 {
		return errors.New("a child takes a reader and a size")
	}
	if args[0] == textReader {
		return textChild(args[1])
	}
	size, err := strconv.Atoi(args[1])
	if err != nil || size < 1 || size > Large {
		return fmt.Errorf("%q is not the size of a preview", args[1])
	}
	if err := confine(); err != nil {
		return fmt.Errorf("this process could not be confined: %w", err)
	}
	for _, reader := range readers {
		if reader.name != args[0] {
			continue
		}
		if reader.program != "" {
			return become(argumentsOf(reader, size))
		}
		return drawPicture(os.Stdin, os.Stdout, size)
	}
	return fmt.Errorf("%q is not a reader", args[0])
}

// argumentsOf are the arguments of a program that reads a file of this process's input and
// writes a picture to its output.
func argumentsOf(reader reader, size int) []string {
	const input = "/proc/self/fd/0"
	if reader.program == "pdftoppm" {
		return []string{reader.program, "-q", "-png", "-singlefile", "-f", "1", "-l", "1", "-scale-to", strconv.Itoa(size), input}
	}
	return []string{
		reader.program, "-nostdin", "-v", "error", "-threads", "1", "-filter_threads", "1", "-max_pixels", strconv.Itoa(mostPixels),
		"-protocol_whitelist", "file", "-f", reader.demuxer, "-i", input, "-an", "-sn", "-dn", "-frames:v", "1", "-threads", "1",
		"-vf", fmt.Sprintf("thumbnail=24,scale=%d:%d:force_original_aspect_ratio=decrease", size, size),
		"-c:v", "mjpeg", "-q:v", "4", "-f", "image2pipe", "pipe:1",
	}
}

// drawPicture writes a picture again that is not larger than size on either side.
func drawPicture(from io.ReadSeeker, to io.Writer, size int) error {
	config, _, err := image.DecodeConfig(bufio.NewReader(from))
	if err != nil {
		return fmt.Errorf("the file is not a picture that can be read: %w", err)
	}
	if config.Width < 1 || config.Height < 1 || config.Width > mostPixels/config.Height {
		return fmt.Errorf("the picture has %d x %d pixels; at most %d million are read", config.Width, config.Height, mostPixels/1_000_000)
	}
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return err
	}
	turn := orientationOf(from)
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return err
	}
	picture, _, err := image.Decode(bufio.NewReader(from))
	if err != nil {
		return fmt.Errorf("the picture is damaged: %w", err)
	}
	bounds := picture.Bounds()
	width, height := fit(bounds.Dx(), bounds.Dy(), size)
	small := image.NewNRGBA(image.Rect(0, 0, width, height))
	draw.BiLinear.Scale(small, small.Bounds(), picture, bounds, draw.Src, nil)
	turned := orient(small, turn)
	out := bufio.NewWriter(to)
	if turned.Opaque() {
		err = jpeg.Encode(out, turned, &jpeg.Options{Quality: 82})
	} else {
		err = png.Encode(out, turned)
	}
	return errors.Join(err, out.Flush())
}

// fit is the size of a picture whose longer side is at most size; none is enlarged.
func fit(width, height, size int) (int, int) {
	longer := max(width, height)
	if longer <= size {
		return width, height
	}
	return max(1, width*size/longer), max(1, height*size/longer)
}

// orient turns a picture as an orientation of EXIF says (CIPA DC-008, section 4.6.4, tag 0x0112).
func orient(from *image.NRGBA, orientation int) *image.NRGBA {
	if orientation < 2 || orientation > 8 {
		return from
	}
	width, height := from.Rect.Dx(), from.Rect.Dy()
	to := image.NewNRGBA(image.Rect(0, 0, width, height))
	if orientation > 4 {
		to = image.NewNRGBA(image.Rect(0, 0, height, width))
	}
	for y := range height {
		for x := range width {
			toX, toY := x, y
			switch orientation {
			case 2:
				toX = width - 1 - x
			case 3:
				toX, toY = width-1-x, height-1-y
			case 4:
				toY = height - 1 - y
			case 5:
				toX, toY = y, x
			case 6:
				toX, toY = height-1-y, x
			case 7:
				toX, toY = height-1-y, width-1-x
			case 8:
				toX, toY = y, width-1-x
			}
			to.SetNRGBA(toX, toY, from.At(x, y).(color.NRGBA))
		}
	}
	return to
}
