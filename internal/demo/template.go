package demo

const pageTemplate = `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}{{if ne .Title .Site}} · {{.Site}}{{end}}</title><link rel="stylesheet" href="{{.Style}}"></head>
<body>
<header><a class="mark" href="{{.Home}}/"><img src="{{.Logo}}" alt=""><span>{{.Site}}</span></a>
<nav>{{range .Menu}}<a href="{{.URL}}">{{.Label}}</a>{{end}}</nav></header>
{{if .Picture}}<div class="hero" style="background-image:url('{{.Picture}}')"><h1>{{.Title}}</h1></div>{{else}}<div class="plain"><h1>{{.Title}}</h1></div>{{end}}
<div class="columns"><main>
{{if .Facts}}<ul class="facts">{{range .Facts}}<li>{{.}}</li>{{end}}</ul>{{end}}
{{.Body}}
{{if .Gallery}}<div class="gallery">{{range .Gallery}}<img src="{{.}}" alt="">{{end}}</div>{{end}}
{{if .News}}<ul class="list">{{range .News}}<li><a href="{{.URL}}">{{.Title}}</a>{{if .Date}} <time>{{.Date}}</time>{{end}}</li>{{end}}</ul>{{end}}
{{if .Comments}}<section class="comments"><h2>Comments</h2>{{range .Comments}}<blockquote><p>{{.Body}}</p><cite>{{.Author}}</cite></blockquote>{{end}}</section>{{end}}
</main><aside>{{range .Widgets}}<section><h3>{{.Title}}</h3><div>{{.HTML}}</div></section>{{end}}</aside></div>
<footer>{{.Footer}}</footer>
</body></html>
`

const styleSheet = `:root{--ink:#16283a;--sea:#0f3d5c;--paper:#fbf8f1;--line:#e2dccd;--red:#b8322a}
*{box-sizing:border-box}body{margin:0;font:17px/1.6 Georgia,"DejaVu Serif",serif;color:var(--ink);background:var(--paper)}
a{color:#0b5c86}header{display:flex;align-items:center;justify-content:space-between;gap:2em;padding:.8em 5vw;background:#fff;border-bottom:1px solid var(--line)}
.mark{display:flex;align-items:center;gap:.7em;text-decoration:none;color:var(--sea);font-weight:bold;font-size:1.15em}.mark img{width:44px;height:44px}
nav a{margin-left:1.4em;text-decoration:none;font-family:"DejaVu Sans",sans-serif;font-size:.85em;color:var(--ink)}
.hero{height:320px;background-size:cover;background-position:center;display:flex;align-items:flex-end}
.hero h1{margin:0;padding:.35em 5vw;width:100%;color:#fff;font-size:2.4em;background:linear-gradient(transparent,rgba(8,22,36,.72))}
.plain h1{padding:.6em 5vw 0;margin:0}.columns{display:flex;gap:4vw;padding:1.6em 5vw;max-width:1200px}
main{flex:3;min-width:0}aside{flex:1;font-size:.88em}aside section{border-top:3px solid var(--red);padding:.4em 0 1em}aside h3{margin:.4em 0}
aside img{width:100%;border-radius:4px}.lead{font-size:1.18em}figure{margin:0}figure img{max-width:100%;border-radius:6px}
.gallery{display:grid;grid-template-columns:repeat(3,1fr);gap:10px;margin:1em 0}.gallery img{width:100%;border-radius:4px}
.list{list-style:none;padding:0}.list li{padding:.5em 0;border-bottom:1px solid var(--line);display:flex;justify-content:space-between}time{color:#7b7568;font-size:.85em}
.facts{display:flex;gap:2em;list-style:none;padding:0;font-family:"DejaVu Sans",sans-serif;font-size:.85em;color:var(--red)}
blockquote{margin:0 0 1em;padding:.2em 1em;border-left:3px solid var(--line)}cite{color:#7b7568}footer{padding:1em 5vw 2em;color:#7b7568;font-size:.85em;border-top:1px solid var(--line)}
`
