package main

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// certificate writes a certificate of this machine and its key, signed by itself.
func certificate(t *testing.T, dir string) (cert, key string, roots *x509.CertPool) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "quay"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"quay.example"}}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	own, err := x509.MarshalECPrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for name, b := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "EC PRIVATE KEY", Bytes: own}} {
		if err := os.WriteFile(name, pem.EncodeToMemory(b), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	roots = x509.NewCertPool()
	roots.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	return cert, key, roots
}

// A server that others can reach does not start without a certificate, and lets nobody in without a token, which it prints.
func TestServingBeyondThisMachine(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	for _, addr := range []string{"0.0.0.0:0", ":0", "[::]:0", "quay.example:0"} {
		_, errs, status := crust(t, "serve", "--data", data, "--addr", addr)
		if status != 2 || !strings.Contains(errs, "--tls-cert") || strings.Count(errs, "\n") != 1 {
			t.Errorf("%s: %d %s", addr, status, errs)
		}
	}
	cert, key, roots := certificate(t, dir)
	if _, errs, status := crust(t, "serve", "--data", data, "--addr", "0.0.0.0:0", "--tls-cert", cert, "--tls-key", cert); status != 2 || !strings.Contains(errs, "belong together") {
		t.Errorf("%d %s", status, errs)
	}
	s := serve(t, data, "--addr", "0.0.0.0:0", "--tls-cert", cert, "--tls-key", key)
	if len(s.said) != 2 || !strings.HasPrefix(s.said[1], "owner enters with the token ") {
		t.Fatalf("it said %q", s.said)
	}
	token := strings.TrimPrefix(s.said[1], "owner enters with the token ")
	_, port, err := net.SplitHostPort(strings.TrimPrefix(s.url, "https://"))
	if err != nil {
		t.Fatal(s.url, err)
	}
	at := "https://127.0.0.1:" + port
	jar, _ := cookiejar.New(nil)
	c := &http.Client{Jar: jar, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	get := func(path, host string) (int, string) {
		r, err := http.NewRequest("GET", at+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Host = host
		a, err := c.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer a.Body.Close()
		text, _ := io.ReadAll(a.Body)
		return a.StatusCode, string(text)
	}
	if code, text := get("/api/finishes", ""); code != http.StatusUnauthorized {
		t.Errorf("without a token: %d %s", code, text)
	}
	if code, _ := get("/api/finishes", "mole.example:"+port); code != http.StatusForbidden {
		t.Errorf("by a name that is not its own: %d", code)
	}
	if code, _ := get("/api/finishes", "quay.example:"+port); code != http.StatusUnauthorized {
		t.Errorf("by the name of its certificate: %d", code)
	}
	a, err := c.PostForm(at+"/enter", url.Values{"token": {token}})
	if err != nil || a.StatusCode != 200 {
		t.Fatal(a, err)
	}
	a.Body.Close()
	set := a.Request.Response.Header.Get("Set-Cookie") // of the answer that led to the first page
	for _, want := range []string{"Secure", "HttpOnly", "SameSite=Strict"} {
		if !strings.Contains(set, want) || strings.Contains(set, token) {
			t.Errorf("the cookie is %q, want it %s and without the token", set, want)
		}
	}
	if code, text := get("/api/finishes", ""); code != 200 {
		t.Errorf("with the token: %d %s", code, text)
	}
	// Others get in, and out, while it runs.
	out, errs, status := crust(t, "users", "add", "tom", "--guest", "--data", data)
	if status != 0 || len(strings.TrimSpace(out)) < 27 {
		t.Fatal(out, errs)
	}
	if out, _, _ := crust(t, "users", "--data", data); !strings.Contains(out, "tom") || !strings.Contains(out, "looks") || !strings.Contains(out, token) {
		t.Error(out)
	}
	if _, errs, status := crust(t, "users", "renew", "owner", "--data", data); status != 0 {
		t.Fatal(errs)
	}
	time.Sleep(1100 * time.Millisecond)
	if code, _ := get("/api/finishes", ""); code != http.StatusUnauthorized {
		t.Errorf("%d after the token was changed", code)
	}
}

const triangle = "v 0 0 0\nv 1 0 0\nv 1 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nf 1/1 2/2 3/3\n"

// A second server of a folder is refused, and so is whoever would change it; looking and copying go on beside. A backup of the running
// server makes a folder that another server shows.
func TestOneServerOfAFolder(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	model := filepath.Join(dir, "quay.obj")
	if err := os.WriteFile(model, []byte(triangle), 0o644); err != nil {
		t.Fatal(err)
	}
	s := serve(t, data)
	s.post("/api/assets", nil, model)
	_, errs, status := crust(t, "serve", "--data", data, "--addr", "127.0.0.1:0")
	if status != 1 || !strings.Contains(errs, "in use by "+s.url) || !strings.Contains(errs, " since ") || strings.Count(errs, "\n") != 1 {
		t.Errorf("%d %s", status, errs)
	}
	archive := filepath.Join(dir, "quay.crust.zip")
	if _, errs, status := crust(t, "pack", "quay", "--data", data, "--out", archive); status != 0 {
		t.Errorf("packing beside the server: %s", errs)
	}
	if _, errs, status := crust(t, "unpack", archive, "--data", data); status != 1 || !strings.Contains(errs, "in use by") {
		t.Errorf("unpacking beside the server: %d %s", status, errs)
	}
	file, to := filepath.Join(dir, "backup.zip"), filepath.Join(dir, "elsewhere")
	if _, errs, status := crust(t, "backup", "--data", data, "--out", file); status != 0 {
		t.Fatal(errs)
	}
	if _, errs, status := crust(t, "backup", "--data", data); status != 2 || !strings.Contains(errs, "--out") {
		t.Errorf("%d %s", status, errs)
	}
	if _, errs, status := crust(t, "restore", file, "--data", data); status != 1 || !strings.Contains(errs, "not empty") {
		t.Errorf("over the folder: %d %s", status, errs)
	}
	if _, errs, status := crust(t, "restore", file, "--data", to); status != 0 {
		t.Fatal(errs)
	}
	two := serve(t, to)
	if want, got := s.get("/api/assets/1/mesh"), two.get("/api/assets/1/mesh"); want == nil || !bytes.Equal(got, want) {
		t.Errorf("the restored model has %d bytes, it had %d", len(got), len(want))
	}
	s.kill()
	serve(t, data) // what the killed one held is free
}

// A folder that cannot be changed is served to be looked at, and the server says why.
func TestAFolderThatCannotBeChangedIsShown(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	model := filepath.Join(dir, "quay.obj")
	if err := os.WriteFile(model, []byte(triangle), 0o644); err != nil {
		t.Fatal(err)
	}
	one := serve(t, data)
	one.post("/api/assets", nil, model)
	one.end()
	// Nobody in particular may read what is there, and no more: this holds for root, too, who could change it all the same.
	bin := filepath.Join(dir, "crust")
	from, err := os.ReadFile(os.Args[0])
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(bin, from, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, d := range []string{filepath.Dir(dir), dir, data} {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if os.Geteuid() != 0 {
		for _, name := range []string{data, filepath.Join(data, "crust.db"), filepath.Join(data, "crust.lock")} {
			if err := os.Chmod(name, 0o555); err != nil {
				t.Fatal(err)
			}
		}
		t.Cleanup(func() { os.Chmod(data, 0o755) })
	}
	s := &served{t: t, cmd: exec.Command(bin, "serve", "--data", data, "--addr", "127.0.0.1:0", "--deliver-root", filepath.Join(dir, "out"))}
	asNobody(s.cmd)
	var errs bytes.Buffer
	s.cmd.Stderr = &errs
	s.begin()
	if s.get("/api/assets/1/mesh") == nil {
		t.Errorf("the model is not shown: %s", errs.String())
	}
	if page := string(s.get("/assets/1/paint")); !strings.Contains(page, "you look only") {
		t.Error("the page does not say that one only looks")
	}
	r, err := http.Post(s.url+"/api/assets/1/do/rename", "application/json", strings.NewReader(`{"value":"mole"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	if text, _ := io.ReadAll(r.Body); r.StatusCode != http.StatusForbidden || !strings.Contains(string(text), "cannot be worked in") {
		t.Errorf("%d %s", r.StatusCode, text)
	}
	s.kill()
	if !strings.Contains(errs.String(), "can be looked at") {
		t.Errorf("it said %q", errs.String())
	}
}
