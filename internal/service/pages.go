package service

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

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
	if !isFile {
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") { // their names change with their content
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		w.Header().Set("Cache-Control", "no-cache")
	}
	http.ServeFileFS(w, r, files, name)
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
