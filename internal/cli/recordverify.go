package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/record"
)

// recordVerify makes `yfence record verify`.
func (a *app) recordVerify() *cobra.Command {
	var export string
	var checkpoints []string
	c := &cobra.Command{
		Use:   "verify",
		Short: "Prove that no entry of the record was changed, removed, moved or added",
		Long: `Verify reads the whole record, from the service or from an export, works out its tree anew, and
holds it against the heads that were signed. What it finds first it names: which entry, and what is
wrong with it. A checkpoint that was kept elsewhere shows even what was signed anew by whoever has
the key, and what is missing at the end.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var earlier []record.Checkpoint
			for _, name := range checkpoints {
				k, err := a.readCheckpoint(name)
				if err != nil {
					return err
				}
				earlier = append(earlier, k)
			}
			var rows recordReader
			if export == "" {
				svc, err := a.service()
				if err != nil {
					return err
				}
				rows = fromService(cmd.Context(), svc)
			} else {
				file, err := os.Open(export)
				if err != nil {
					return err
				}
				defer func() { _ = file.Close() }()
				rows = exported(file)
			}
			size, key, wrong, err := verifyRecord(rows, earlier)
			if err != nil && export != "" {
				return fmt.Errorf("%s: %w", export, err)
			}
			if err != nil {
				return err
			}
			out := struct {
				Version int           `json:"version"`
				Holds   bool          `json:"holds"`
				Entries int64         `json:"entries"`
				Key     string        `json:"key"`
				Wrong   *record.Wrong `json:"wrong,omitempty"`
			}{api.Version, wrong == nil, size, key, wrong}
			if err := a.print(out, func(w io.Writer) {
				p := a.paint(w)
				if wrong != nil {
					_, _ = fmt.Fprintf(w, "%s  %s\n", p(red, "the record does not hold"), wrong.What)
					return
				}
				_, _ = fmt.Fprintf(w, "%s  %s, each as it was recorded%s\n", p(green, "the record holds"), entries(size),
					map[bool]string{true: ", and the checkpoints are its beginning"}[len(earlier) > 0])
			}); err != nil || wrong == nil {
				return err
			}
			return errFound
		},
	}
	c.Flags().StringVar(&export, "export", "", "a file that yfence record export wrote, instead of the service's database")
	c.Flags().StringArrayVar(&checkpoints, "checkpoint", nil, "a checkpoint that was kept elsewhere; may be given several times")
	return c
}

// A recordReader gives the next part of a record, with the newest head as it is known there; no rows
// at its end.
type recordReader func() (record.Checkpoint, []record.Row, error)

// fromService reads a service's record part by part.
func fromService(ctx context.Context, svc *client.Client) recordReader {
	after, over := int64(0), false
	return func() (record.Checkpoint, []record.Row, error) {
		if over {
			return record.Checkpoint{}, nil, nil
		}
		part, err := svc.RecordRows(ctx, after)
		if over = !part.More; len(part.Rows) > 0 {
			after = part.Rows[len(part.Rows)-1].Number
		}
		return part.Checkpoint, part.Rows, err
	}
}

// maxRow is how long a line of an export may be.
const maxRow = 4 << 20

// exported reads what `record export` wrote: a checkpoint, and then a row a line.
func exported(file io.Reader) recordReader {
	lines := bufio.NewScanner(file)
	lines.Buffer(make([]byte, 64<<10), maxRow)
	number := 0
	next := func(into any) (bool, error) {
		if !lines.Scan() {
			return false, lines.Err()
		}
		number++
		dec := json.NewDecoder(bytes.NewReader(lines.Bytes()))
		dec.DisallowUnknownFields()
		if err := dec.Decode(into); err != nil {
			return false, fmt.Errorf("line %d is not of what yfence record export writes: %w", number, err)
		}
		return true, nil
	}
	var c record.Checkpoint
	return func() (record.Checkpoint, []record.Row, error) {
		if number == 0 {
			if there, err := next(&c); err != nil || !there {
				return c, nil, errors.Join(err, errors.New("it is empty: expected what yfence record export writes"))
			}
		}
		var r record.Row
		if there, err := next(&r); err != nil || !there {
			return c, nil, err
		}
		return c, []record.Row{r}, nil
	}
}

// verifyRecord goes through a record. wrong is what is not as it was recorded; err is what keeps it from
// being read.
func verifyRecord(rows recordReader, earlier []record.Checkpoint) (size int64, key string, wrong *record.Wrong, err error) {
	var v *record.Verifier
	var newest record.Checkpoint
	for {
		c, part, err := rows()
		if err != nil {
			return size, key, nil, err
		}
		if v == nil {
			newest, key = c, c.Key
			v, err = record.Verify(c.Key, earlier...)
			if errors.As(err, &wrong) {
				return 0, key, wrong, nil
			}
		}
		for _, r := range part {
			if wrong = v.Add(r); wrong != nil {
				return v.Size(), key, wrong, nil
			}
		}
		if len(part) > 0 {
			continue
		}
		// What was added since it was begun to read is not missing.
		return v.Size(), key, v.End(newest.Size), nil
	}
}

// entries is so many of them, as people read it.
func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// readCheckpoint reads a checkpoint from a file.
func (a *app) readCheckpoint(name string) (c record.Checkpoint, err error) {
	data, err := a.readFile(name)
	if err != nil {
		return c, err
	}
	if err := json.Unmarshal(data, &c); err != nil || c.Key == "" || c.Head == "" {
		return c, fmt.Errorf("%s is no checkpoint; yfence record checkpoint --into FILE writes one", name)
	}
	return c, nil
}

// recordCheckpoint makes `yfence record checkpoint`.
func (a *app) recordCheckpoint() *cobra.Command {
	var since, into string
	c := &cobra.Command{
		Use:   "checkpoint",
		Short: "Print the record's newest signed head, to be kept where the database's owner cannot reach it",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			var earlier record.Checkpoint
			var before record.Head
			if since != "" {
				if earlier, err = a.readCheckpoint(since); err == nil {
					before, err = record.Open(earlier.Head, earlier.Key)
				}
				if err != nil {
					return err
				}
			}
			got, err := svc.RecordCheckpoint(cmd.Context(), before.Size)
			if err != nil {
				return err
			}
			if since != "" {
				if err := follows(got, earlier, before); err != nil {
					a.say("the record does not hold: %s", err)
					return errFound
				}
				a.say("%s: what it covers is the beginning of the record (%s)", since, entries(before.Size))
			}
			text, err := json.MarshalIndent(got.Checkpoint, "", "  ")
			if err != nil {
				return err
			}
			if into != "" {
				return os.WriteFile(into, append(text, '\n'), 0o644)
			}
			return a.print(got.Checkpoint, func(w io.Writer) { _, _ = fmt.Fprintf(w, "%s\n", text) })
		},
	}
	c.Flags().StringVar(&since, "since", "", "an earlier checkpoint, which is proven to be the beginning")
	c.Flags().StringVar(&into, "into", "", "a file to write it to")
	return c
}

// follows checks that a checkpoint follows an earlier one.
func follows(got api.RecordCheckpoint, earlier record.Checkpoint, before record.Head) error {
	if got.Key != earlier.Key {
		return fmt.Errorf("the checkpoint is of another record (%s)", before.Origin)
	}
	now, err := record.Open(got.Head, got.Key)
	if err != nil {
		return err
	}
	proof, err := record.Parse(got.Proof)
	if err == nil && now.Follows(before, proof) != nil {
		err = fmt.Errorf("what the earlier checkpoint covers (%s) is not its beginning; yfence record verify --checkpoint names the entry",
			entries(before.Size))
	}
	return err
}

// recordExport makes `yfence record export`.
func (a *app) recordExport() *cobra.Command {
	var into string
	c := &cobra.Command{
		Use:   "export",
		Short: "Write the whole record, as it is stored: a line for each entry, to be verified and kept elsewhere",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			svc, err := a.service()
			if err != nil {
				return err
			}
			var out io.Writer = a.out
			if into != "" {
				file, err := os.Create(into)
				if err != nil {
					return err
				}
				defer func() { err = errors.Join(err, file.Close()) }()
				out = file
			}
			buffered := bufio.NewWriter(out)
			lines := json.NewEncoder(buffered)
			lines.SetEscapeHTML(false)
			count := int64(0)
			for rows, first := fromService(cmd.Context(), svc), true; ; first = false {
				c, part, err := rows()
				if err != nil {
					return err
				}
				if first {
					if err := lines.Encode(c); err != nil {
						return err
					}
				}
				if len(part) == 0 {
					break
				}
				for _, r := range part {
					if err := lines.Encode(r); err != nil {
						return err
					}
				}
				count += int64(len(part))
			}
			if err := buffered.Flush(); err != nil {
				return err
			}
			a.say("exported %s", entries(count))
			return nil
		},
	}
	c.Flags().StringVar(&into, "into", "", "a file to write it to")
	return c
}
