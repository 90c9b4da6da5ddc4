package service

import (
	"bytes"
	"crypto/rand"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/go-chi/chi/v5/middleware"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/console"
)

// notBuilt is shown in place of the console by a program that was built without.
const notBuilt = `<!doctype html><meta charset="utf-8"><title>Yellow Fence</title>
<p>The console is not built into this program. Run <code>make build</code>, which takes Node, and start it again.
<p>The API is at <a href="/api/v1/openapi.json">/api/v1</a>.`

// consoleFiles serves the console. Any path that is no file is one of its pages.
func (s *Service) consoleFiles(w http.ResponseWriter, r *http.Request) {
	files, built := console.Files()
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	isFile := false
	if built {
		info, err := fs.Stat(files, name)
		isFile = err == nil && !info.IsDir()
	}
	// Whoever wants no page asks for something that there is not.
	page := r.URL.Path == "/" || r.Method == http.MethodGet && strings.Contains(r.Header.Get("Accept"), "text/html")
	if strings.HasPrefix(r.URL.Path, "/api/") || !isFile && !page {
		writeProblem(w, api.NewProblem(api.NotFound, "there is nothing at this path; /api/v1/openapi.json says what there is"))
		return
	}
	if !built {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte(notBuilt))
		return
	}
	if !isFile || name == "index.html" {
		s.consolePage(w, files)
		return
	}
	if strings.HasPrefix(name, "assets/") { // their names change with their content
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		w.Header().Set("Cache-Control", "no-cache")
	}
	http.ServeFileFS(w, r, files, name)
}

// consolePage serves the page in which the console runs. What its parts make of styles while it runs bears the
// word of this one answer, so that nobody else's styles count.
func (s *Service) consolePage(w http.ResponseWriter, files fs.FS) {
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		panic(err) // it is embedded, and was there a moment ago
	}
	nonce := rand.Text()
	h := w.Header()
	h.Set("Content-Security-Policy", strings.Replace(h.Get("Content-Security-Policy"), "style-src 'self'", "style-src 'self' 'nonce-"+
		nonce+"'", 1))
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-cache")
	_, _ = w.Write(bytes.Replace(page, []byte("NONCE-OF-THIS-ANSWER"), []byte(nonce), 1))
}

// squeezed compresses what people's pages ask for. What hosts ask again and again is short, and what has secrets
// in it is no GET: its length must not tell anything of them.
func squeezed(next http.Handler) http.Handler {
	smaller := middleware.Compress(5, "application/json", "text/html", "text/css", "text/javascript", "image/svg+xml")(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet && !strings.HasSuffix(r.URL.Path, "/tasks") && r.URL.Path != streamPath {
			smaller.ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// securityHeaders lets pages load nothing that is not ours.
func (s *Service) securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if s.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src "+
			"'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}
