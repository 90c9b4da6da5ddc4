package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptrace"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/testbed"
)

// certificate writes a self-signed certificate for 127.0.0.1.
func certificate(t *testing.T, dir string) (certFile, keyFile string, pool *x509.CertPool) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		IsCA:        true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	keyDER, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	certFile, keyFile = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(certFile, certPEM, 0o600))
	require.NoError(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), 0o600))
	pool = x509.NewCertPool()
	pool.AppendCertsFromPEM(certPEM)
	return certFile, keyFile, pool
}

// TestServe runs the program as an operator would: over TLS, with its first
// token, and ends it in the middle of a request, which is finished.
func TestServe(t *testing.T) {
	dir := t.TempDir()
	program := filepath.Join(dir, "yfence")
	build(t, program)
	certFile, keyFile, pool := certificate(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "database"), []byte(testbed.Database(t)+"\n"), 0o600))
	token := filepath.Join(dir, "token")
	start := func() (*exec.Cmd, string) {
		cmd := exec.Command(program, "serve", "--listen", "127.0.0.1:0", "--database-file", filepath.Join(dir, "database"),
			"--first-token", token,
			"--tls-cert", certFile, "--tls-key", keyFile, "--log-json")
		stderr, err := cmd.StderrPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := bufio.NewScanner(stderr)
		for lines.Scan() {
			if _, address, ok := strings.Cut(lines.Text(), "serving on "); ok {
				go func() { _, _ = io.Copy(io.Discard, stderr) }()
				return cmd, address
			}
		}
		t.Fatal("it does not serve")
		return nil, ""
	}
	serve, address := start()
	secret, err := os.ReadFile(token)
	require.NoError(t, err)
	info, err := os.Stat(token)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ExpectContinueTimeout: time.Minute}}
	session, err := web.Post("https://"+address+"/api/v1/session", "application/json",
		strings.NewReader(`{"token": "`+strings.TrimSpace(string(secret))+`"}`))
	require.NoError(t, err)
	require.Contains(t, session.Header.Get("Set-Cookie"), "Secure", "over TLS the cookie is for TLS only")
	require.NoError(t, session.Body.Close())
	plain, err := http.Get("http://" + address + "/healthz")
	require.NoError(t, err)
	require.Equal(t, http.StatusBadRequest, plain.StatusCode, "no plain text on this port")
	require.NoError(t, plain.Body.Close())

	// A request whose body is still coming when the service is told to stop.
	reader, writer := io.Pipe()
	taken := make(chan struct{}) // closed when the service asks for the body
	trace := httptrace.WithClientTrace(context.Background(), &httptrace.ClientTrace{Got100Continue: sync.OnceFunc(func() { close(taken) })})
	req, err := http.NewRequestWithContext(trace, "POST", "https://"+address+"/api/v1/revisions", reader)
	require.NoError(t, err)
	req.Header.Set("Expect", "100-continue")
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(secret)))
	req.Header.Set("Content-Type", "application/json")
	answer := make(chan string, 1)
	go func() {
		res, err := web.Do(req)
		if err != nil {
			answer <- err.Error()
			return
		}
		body, _ := io.ReadAll(res.Body)
		answer <- string(body)
	}()
	_, err = writer.Write([]byte(`{"why": "in the middle", "files": [`))
	require.NoError(t, err)
	<-taken
	require.NoError(t, serve.Process.Signal(syscall.SIGTERM))
	require.Eventually(t, func() bool {
		res, err := web.Get("https://" + address + "/healthz")
		if err == nil {
			_ = res.Body.Close()
		}
		return err != nil
	}, 10*time.Second, 10*time.Millisecond, "nothing new is taken")
	_, err = writer.Write([]byte(`{"name": "p.fence", "text": "policy p language 1\nrole jump\nallow in: 198.51.100.1 -> jump : ssh ` +
		`guard\n"}]}`))
	require.NoError(t, err)
	require.NoError(t, writer.Close())
	require.Contains(t, <-answer, `"revision":1`, "what was begun is finished")
	require.NoError(t, serve.Wait())

	// Started again it is all there, and no second first token is made.
	require.NoError(t, os.Remove(token))
	again, address := start()
	_, err = os.Stat(token)
	require.ErrorIs(t, err, os.ErrNotExist)
	var stdout bytes.Buffer
	list := exec.Command(program, "revisions", "--server", "https://"+address)
	list.Env = append(os.Environ(), "YFENCE_TOKEN="+strings.TrimSpace(string(secret)), "SSL_CERT_FILE="+certFile)
	list.Stdout = &stdout
	require.NoError(t, list.Run())
	require.Contains(t, stdout.String(), "in the middle")

	// A host that enrols over TLS keeps whose word on the certificate counts.
	run := func(args ...string) (string, error) {
		cmd := exec.Command(program, args...)
		cmd.Env = append(os.Environ(), "YFENCE_TOKEN="+strings.TrimSpace(string(secret)), "YFENCE_STATE="+filepath.Join(dir, "state"))
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	url := "https://" + address
	fleetFile := filepath.Join(dir, "fleet.json")
	require.NoError(t, os.WriteFile(fleetFile,
		[]byte(`{"hosts": [{"name": "jump-01", "roles": ["jump"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": `+
			`["203.0.113.65/28"]}]}]}`), 0o600))
	said, err := run("fleet", "import", fleetFile, "--server", url, "--ca-file", certFile)
	require.NoError(t, err, said)
	said, err = run("fleet", "list", "--server", url, "--ca-file", certFile)
	require.Error(t, err)
	require.Equal(t, "yfence: no host has \"list\" in its name; yfence fleet alone lists all\n", said)
	once, err := run("fleet", "enrol", "jump-01", "--server", url, "--ca-file", certFile, "--output", "json")
	require.NoError(t, err, once)
	oneTime := filepath.Join(dir, "once")
	require.NoError(t, os.WriteFile(oneTime, []byte(regexp.MustCompile(`"token": "([^"]+)"`).FindStringSubmatch(once)[1]), 0o600))
	for server, want := range map[string]string{"http://203.0.113.5:8480": "does not speak TLS: whoever is on the way could take this " +
		"host's token", url: "certificate signed by unknown authority"} {
		said, err := run("attend", "--enrol", oneTime, "--server", server)
		require.Error(t, err)
		require.Contains(t, said, want)
	}
	for _, args := range [][]string{{"--enrol", oneTime, "--server", url, "--ca-file", certFile}, {}} {
		attend := exec.Command(program, append([]string{"attend", "--state", filepath.Join(dir, "state")}, args...)...)
		pipe, err := attend.StderrPipe()
		require.NoError(t, err)
		require.NoError(t, attend.Start())
		said := ""
		for lines := bufio.NewScanner(pipe); !strings.Contains(said, "jump-01 attends to "+url) && lines.Scan(); {
			said += lines.Text() + "\n"
		}
		require.Contains(t, said, "jump-01 attends to "+url)
		require.NoError(t, attend.Process.Signal(syscall.SIGTERM))
		require.NoError(t, attend.Wait())
	}
	identity, err := os.ReadFile(filepath.Join(dir, "state", "identity.json"))
	require.NoError(t, err)
	require.Contains(t, string(identity), "BEGIN CERTIFICATE")

	// A renewed certificate is served after SIGHUP, which ends nothing.
	head, err := web.Get(url + "/livez")
	require.NoError(t, err)
	require.NoError(t, head.Body.Close())
	require.NotEmpty(t, head.Header.Get("Strict-Transport-Security"))
	_, _, renewed := certificate(t, dir)
	require.NoError(t, again.Process.Signal(syscall.SIGHUP))
	fresh := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: renewed}}}
	require.Eventually(t, func() bool {
		fresh.CloseIdleConnections()
		res, err := fresh.Get(url + "/livez")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return true
	}, 5*time.Second, 50*time.Millisecond)

	// A host's question for tasks keeps nobody who is told to stop.
	var who struct{ Token string }
	require.NoError(t, json.Unmarshal(identity, &who))
	poll, err := http.NewRequest("GET", url+"/api/v1/hosts/jump-01/tasks?wait=25", nil)
	require.NoError(t, err)
	poll.Header.Set("Authorization", "Bearer "+who.Token)
	polled, asked := make(chan int, 1), time.Now().Truncate(time.Second)
	go func() {
		res, err := fresh.Do(poll)
		if err != nil {
			polled <- 0
			return
		}
		_ = res.Body.Close()
		polled <- res.StatusCode
	}()
	require.Eventually(t, func() bool { // the service notes whoever asks
		list, err := run("fleet", "--server", url, "--ca-file", certFile, "--output", "json")
		require.NoError(t, err, list)
		var fl api.Fleet
		require.NoError(t, json.Unmarshal([]byte(list), &fl))
		require.NotEmpty(t, fl.Hosts, list)
		return fl.Hosts[0].Attends != nil && !fl.Hosts[0].Attends.Before(asked)
	}, 10*time.Second, 20*time.Millisecond)
	begin := time.Now()
	require.NoError(t, again.Process.Signal(syscall.SIGTERM))
	require.NoError(t, again.Wait())
	require.Less(t, time.Since(begin), 15*time.Second, "the question would wait 25 s")
	require.Equal(t, http.StatusOK, <-polled, "it is answered that there is nothing to do")
}
