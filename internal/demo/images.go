package demo

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
	"sync"
)

// scene is what a picture shows; everything in it follows from its numbers.
type scene struct {
	w, h    int
	light   int // index into lights
	hull    color.RGBA
	funnels int
	size    float64 // of the ferry, as a share of the width
	beam    bool    // a lighthouse with its beam
	seed    uint64
}

// light is a time of day: sky from top to horizon, sea from horizon to bottom.
type light struct{ top, low, far, near, sun color.RGBA }

func rgb(v uint32) color.RGBA { return color.RGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255} }

var lights = []light{
	{rgb(0x2f6ea5), rgb(0xcfe6f2), rgb(0x4c8fb5), rgb(0x123a5a), rgb(0xfff6d8)}, // noon
	{rgb(0x3b3f74), rgb(0xf7b58a), rgb(0x8c6f8f), rgb(0x1d2547), rgb(0xffe0a3)}, // dawn
	{rgb(0x20344f), rgb(0xe9835a), rgb(0x9a5b5d), rgb(0x16213a), rgb(0xffc27a)}, // evening
	{rgb(0x0c1730), rgb(0x2c4a73), rgb(0x1c3558), rgb(0x060d1d), rgb(0xe8eefc)}, // night
	{rgb(0x8fa3ad), rgb(0xdfe5e6), rgb(0x8a9da3), rgb(0x3f545c), rgb(0xf7f7f2)}, // mist
}

var hulls = []color.RGBA{rgb(0xb8322a), rgb(0x1f5b4f), rgb(0xf0e6d2), rgb(0x27476e), rgb(0xd79a2b), rgb(0x3a3a3a)}

func mix(a, b color.RGBA, t float64) color.RGBA {
	t = math.Max(0, math.Min(1, t))
	f := func(x, y uint8) uint8 { return uint8(float64(x)*(1-t) + float64(y)*t) }
	return color.RGBA{f(a.R, b.R), f(a.G, b.G), f(a.B, b.B), 255}
}

// draw paints the scene.
func (s scene) draw() *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, s.w, s.h))
	rnd := rand.New(rand.NewPCG(s.seed, 99))
	l := lights[s.light]
	horizon := int(float64(s.h) * (0.50 + 0.08*rnd.Float64()))
	sunX, sunY, sunR := float64(s.w)*(0.15+0.7*rnd.Float64()), float64(horizon)*(0.25+0.5*rnd.Float64()), float64(s.h)*0.055
	p1, p2 := rnd.Float64()*6, rnd.Float64()*6
	for y := range s.h {
		for x := range s.w {
			fx := float64(x) / float64(s.w)
			var c color.RGBA
			if y < horizon {
				c = mix(l.top, l.low, float64(y)/float64(horizon))
				d := math.Hypot(float64(x)-sunX, float64(y)-sunY)
				c = mix(l.sun, c, smooth((d-sunR)/2))
				c = mix(c, l.sun, 0.35*math.Exp(-d/(sunR*4)))
				ridge := float64(horizon) - float64(s.h)*(0.05+0.045*math.Sin(fx*7+p1)+0.025*math.Sin(fx*17+p2))
				if float64(y) > ridge {
					c = mix(mix(l.far, l.near, 0.35), l.low, 0.30)
				}
			} else {
				depth := float64(y-horizon) / float64(s.h-horizon)
				c = mix(l.far, l.near, depth)
				wave := math.Sin(float64(y)*0.9/(0.3+depth)+6*math.Sin(fx*9+float64(y)*0.05+p1)) * (0.05 + 0.10*depth)
				c = mix(c, l.low, wave)
				glitter := math.Exp(-math.Abs(float64(x)-sunX)/(float64(s.w)*(0.02+0.10*depth))) * (0.5 + 0.5*math.Sin(float64(y)*1.7+float64(x)*0.08))
				c = mix(c, l.sun, 0.55*glitter)
			}
			img.SetRGBA(x, y, c)
		}
	}
	if s.beam {
		s.lighthouse(img, horizon, rnd)
	}
	s.ferry(img, horizon, rnd)
	return img
}

func smooth(t float64) float64 {
	t = math.Max(0, math.Min(1, t))
	return t * t * (3 - 2*t)
}

func fill(img *image.RGBA, x0, y0, x1, y1 int, c color.RGBA) {
	for y := max(0, y0); y < min(y1, img.Rect.Dy()); y++ {
		for x := max(0, x0); x < min(x1, img.Rect.Dx()); x++ {
			img.SetRGBA(x, y, c)
		}
	}
}

func (s scene) lighthouse(img *image.RGBA, horizon int, rnd *rand.Rand) {
	x, h := int(float64(s.w)*(0.08+0.1*rnd.Float64())), s.h/4
	base := horizon + s.h/40
	for y := base - h; y < base; y++ {
		half := s.w/90 + (y-(base-h))*s.w/(h*110)
		c := rgb(0xf3efe6)
		if (y-(base-h))/(h/5)%2 == 1 {
			c = rgb(0xb8322a)
		}
		fill(img, x-half, y, x+half, y+1, mix(c, lights[s.light].near, 0.15))
	}
	fill(img, x-s.w/80, base-h-s.h/30, x+s.w/80, base-h, lights[s.light].sun)
	fill(img, x-s.w/60, base-h-s.h/24, x+s.w/60, base-h-s.h/30, rgb(0x2b2b2b))
	if s.light != 3 {
		return
	}
	for dx := 1; dx < s.w*2/3; dx++ { // the beam
		spread := dx / 9
		for y := base - h - s.h/60 - spread; y < base-h-s.h/60+spread; y++ {
			if x+dx < s.w && y >= 0 {
				img.SetRGBA(x+dx, y, mix(img.RGBAAt(x+dx, y), lights[3].sun, 0.22*(1-float64(dx)/float64(s.w*2/3))))
			}
		}
	}
}

func (s scene) ferry(img *image.RGBA, horizon int, rnd *rand.Rand) {
	length := int(float64(s.w) * s.size)
	hullH := length / 8
	x0 := int(float64(s.w-length) * (0.3 + 0.5*rnd.Float64()))
	water := horizon + int(float64(s.h-horizon)*(0.25+0.3*s.size))
	l := lights[s.light]
	shade := func(c color.RGBA) color.RGBA {
		if s.light == 3 {
			return mix(c, l.near, 0.55)
		}
		return mix(c, l.low, 0.12)
	}
	for y := range hullH { // hull, with a raked bow
		rake := (hullH - y) / 2
		c := shade(s.hull)
		if y > hullH*3/4 {
			c = shade(rgb(0x5a1f1a))
		}
		fill(img, x0+y/3, water-hullH+y, x0+length+rake-y/4, water-hullH+y+1, c)
	}
	deck, top := water-hullH, shade(rgb(0xf5f1e8))
	for d := range 2 {
		in := length * (10 + 9*d) / 100
		fill(img, x0+in, deck-hullH*3/4, x0+length-in, deck, top)
		for x := x0 + in + hullH/4; x < x0+length-in-hullH/4; x += hullH / 2 { // windows
			pane := shade(rgb(0x35536b))
			if s.light >= 2 && s.light <= 3 {
				pane = rgb(0xffd88a)
			}
			fill(img, x, deck-hullH/2, x+hullH/4, deck-hullH/4, pane)
		}
		deck -= hullH * 3 / 4
	}
	for f := range s.funnels {
		x := x0 + length*(4+2*f)/10 - hullH/4
		fill(img, x, deck-hullH, x+hullH/2, deck, shade(s.hull))
		fill(img, x, deck-hullH*5/6, x+hullH/2, deck-hullH*2/3, shade(rgb(0xf5f1e8)))
		for puff := range 26 { // smoke
			px, py := float64(x)-float64(puff)*float64(hullH)/7, float64(deck-hullH)-float64(puff)*float64(hullH)/16
			r := float64(hullH) * (0.12 + 0.022*float64(puff))
			blob(img, px, py+3*math.Sin(float64(puff)), r, mix(l.low, rgb(0x777777), 0.3), 0.35*(1-float64(puff)/26))
		}
	}
	for y := water; y < min(s.h, water+hullH*2); y++ { // reflection and wake
		t := float64(y-water) / float64(hullH*2)
		for x := x0 + hullH/4; x < x0+length; x++ {
			if x >= 0 && x < s.w {
				wobble := 0.5 + 0.5*math.Sin(float64(y)*0.8+float64(x)*0.05)
				img.SetRGBA(x, y, mix(img.RGBAAt(x, y), shade(s.hull), 0.35*(1-t)*wobble))
			}
		}
	}
	fill(img, x0-length/6, water-2, x0+length+hullH/3, water, mix(l.low, rgb(0xffffff), 0.4))
}

func blob(img *image.RGBA, cx, cy, r float64, c color.RGBA, strength float64) {
	for y := int(cy - r); y <= int(cy+r); y++ {
		for x := int(cx - r); x <= int(cx+r); x++ {
			if d := math.Hypot(float64(x)-cx, float64(y)-cy); d < r && image.Pt(x, y).In(img.Rect) {
				img.SetRGBA(x, y, mix(img.RGBAAt(x, y), c, strength*(1-d/r)))
			}
		}
	}
}

// painted holds the pictures that have been painted in this process: each site has the
// same.
var painted [pictures]struct {
	once sync.Once
	jpeg []byte
	err  error
}

// jpegOf gives the i-th picture of the site.
func jpegOf(i int) ([]byte, error) {
	p := &painted[i]
	p.once.Do(func() { p.jpeg, p.err = paint(i) })
	return p.jpeg, p.err
}

func paint(i int) ([]byte, error) {
	s := scene{w: 800, h: 500, light: i % len(lights), hull: hulls[(i*5+i/6)%len(hulls)], funnels: 1 + i%2, size: 0.28 + 0.05*float64(i%6), beam: i%3 == 0, seed: uint64(i) + 1}
	var b bytes.Buffer
	err := jpeg.Encode(&b, s.draw(), &jpeg.Options{Quality: 82})
	return b.Bytes(), err
}

// logo paints the museum's mark: a funnel over two waves.
func logo() ([]byte, error) {
	const n = 160
	img := image.NewRGBA(image.Rect(0, 0, n, n))
	for y := range n {
		for x := range n {
			fx, fy := float64(x), float64(y)
			c := rgb(0x123a5a)
			switch {
			case fy > 118+5*math.Sin(fx/11):
				c = rgb(0x4c8fb5)
			case fy > 100+5*math.Sin(fx/11+2):
				c = rgb(0x2f6ea5)
			case x > 58 && x < 102 && y > 34 && y < 104:
				c = rgb(0xb8322a)
				if y > 50 && y < 62 {
					c = rgb(0xf5f1e8)
				}
			case y <= 34 && y > 28 && x > 56 && x < 104:
				c = rgb(0x222222)
			}
			if d := math.Hypot(fx-n/2+0.5, fy-n/2+0.5); d > n/2-1 {
				c = color.RGBA{}
			}
			img.SetRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	err := png.Encode(&b, img)
	return b.Bytes(), err
}
