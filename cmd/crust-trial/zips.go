package main

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"io"
)

func base64Of(data []byte) string { return base64.StdEncoding.EncodeToString(data) }

// zipOf is a zip of files, stored as they are.
func zipOf(files []file) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Store})
		if err == nil {
			_, err = w.Write(f.data)
		}
		if err != nil {
			panic(err) // memory always takes it
		}
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// unzip is the files of a zip.
func unzip(data []byte) (out []file, err error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(r)
		r.Close()
		if err != nil {
			return nil, err
		}
		out = append(out, file{f.Name, text})
	}
	return out, nil
}
