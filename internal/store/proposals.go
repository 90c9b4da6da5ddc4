package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/record"
)

// ErrDecided is a proposal that is not open any more.
var ErrDecided = errors.New("it is decided already")

// A KeptProposal is a proposal with where its texts are kept.
type KeptProposal struct {
	api.Proposal
	Files Hash
	Fleet *Hash // nil: the fleet stays
}

// A KeptApproval is one with what it is of, and for which roles whoever gave it may approve.
type KeptApproval struct {
	api.Approval
	Sum string
	approve.Approver
}

// proposalName is how the record names a proposal.
func proposalName(number int64) string { return fmt.Sprintf("proposal %d", number) }

// Propose stores a new proposal, or puts other texts and another reason in the place of an open one of
// the same author, which keeps its number and its approvals.
func (s *Store) Propose(ctx context.Context, p api.Proposal, files, fleet []byte) (number int64, err error) {
	accept, err := json.Marshal(p.Accept)
	if err != nil {
		return 0, err
	}
	err = s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		h, err := put(ctx, tx, files)
		if err != nil {
			return err
		}
		var fl any
		if fleet != nil {
			of, err := put(ctx, tx, fleet)
			if err != nil {
				return err
			}
			fl = of[:]
		}
		d := deed{Deed: record.Proposed, Why: p.Why, With: with("accept", strings.Join(p.Accept, " "))}
		if number = p.Number; number != 0 {
			if err := openProposal(ctx, tx, number); err != nil {
				return err
			}
			d.Deed = record.ChangedProposal
			_, err = tx.ExecContext(ctx, "UPDATE proposals SET why = ?, pair = ?, files = ?, fleet = ?, accept = ?, changed_at = ? WHERE "+
				"number = ?",
				p.Why, p.Pair, h[:], fl, accept, now(), number)
		} else if number, err = next(ctx, tx, "proposals"); err == nil {
			_, err = tx.ExecContext(ctx, "INSERT INTO proposals (number, author, why, state, pair, files, fleet, accept, made_at, "+
				"changed_at) "+
				"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", number, p.Author, p.Why, api.ProposalOpen, p.Pair, h[:], fl, accept, now(), now())
		}
		if err != nil {
			return err
		}
		d.On = proposalName(number)
		return s.note(ctx, tx, d)
	})
	return number, err
}

// openProposal holds a proposal until the transaction ends: ErrDecided where it is not open any more.
func openProposal(ctx context.Context, tx *sql.Tx, number int64) error {
	var state string
	err := tx.QueryRowContext(ctx, "SELECT state FROM proposals WHERE number = ? FOR UPDATE", number).Scan(&state)
	if err == nil && state != api.ProposalOpen {
		return ErrDecided
	}
	return notFound(err)
}

// proposalColumns is what scanProposal reads, in its order.
const proposalColumns = "SELECT number, author, why, state, pair, files, fleet, accept, made_at, changed_at, decided_at, decided_by, " +
	"decided, revision FROM proposals"

// scanProposal reads a proposal's row.
func scanProposal(scan func(...any) error) (p KeptProposal, err error) {
	var files, fleet, accept []byte
	err = scan(&p.Number, &p.Author, &p.Why, &p.State, &p.Pair, &files, &fleet, &accept, &p.MadeAt, &p.ChangedAt, &p.DecidedAt,
		&p.DecidedBy, &p.Decided, &p.Revision)
	if err != nil {
		return p, err
	}
	p.Files = Hash(files)
	if fleet != nil {
		h := Hash(fleet)
		p.Fleet = &h
	}
	return p, json.Unmarshal(accept, &p.Accept)
}

// Proposal is one proposal with its approvals, the oldest first.
func (s *Store) Proposal(ctx context.Context, number int64) (p KeptProposal, approvals []KeptApproval, err error) {
	if err = s.scanRow(ctx, func(scan func(...any) error) (err error) {
		p, err = scanProposal(scan)
		return err
	}, proposalColumns+" WHERE number = ?", number); err != nil {
		return p, nil, err
	}
	approvals, err = list(ctx, s, func(scan func(...any) error) (a KeptApproval, err error) {
		var roles sql.NullString
		err = scan(&a.By, &a.Sum, &roles, &a.Note, &a.At)
		a.Name, a.Whole = a.By, !roles.Valid
		if roles.Valid {
			a.Roles = strings.Split(roles.String, ",")
		}
		return a, err
	}, "SELECT name, sum, roles, note, at FROM approvals WHERE proposal = ? ORDER BY at, name LIMIT 1000", number)
	return p, approvals, err
}

// Proposals lists proposals, the newest first: those of a state, or all if it is "".
func (s *Store) Proposals(ctx context.Context, state string, before int64, most int) ([]api.Proposal, error) {
	where, args := " WHERE number < ?", []any{orLast(before)}
	if state != "" {
		where, args = where+" AND state = ?", append(args, state)
	}
	return list(ctx, s, func(scan func(...any) error) (api.Proposal, error) {
		p, err := scanProposal(scan)
		return p.Proposal, err
	}, proposalColumns+where+" ORDER BY number DESC LIMIT ?", append(args, most)...)
}

// Approve notes that somebody approves what a proposal means. Whoever approved already approves this
// instead.
func (s *Store) Approve(ctx context.Context, number int64, a approve.Approver, sum, note string) error {
	var roles any
	if !a.Whole {
		roles = strings.Join(a.Roles, ",")
	}
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if err := openProposal(ctx, tx, number); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "REPLACE INTO approvals (proposal, name, sum, roles, note, at) VALUES (?, ?, ?, ?, ?, ?)", number,
			a.Name, sum, roles, note, now()); err != nil {
			return err
		}
		return s.note(ctx, tx, deed{Deed: record.Approved, On: proposalName(number), Why: note, With: with("meaning", sum)})
	})
}

// DecideProposal ends a proposal that is not published: it is declined or withdrawn.
func (s *Store) DecideProposal(ctx context.Context, number int64, state, why string) error {
	return s.exactlyOnce(ctx, func(tx *sql.Tx) error {
		if err := openProposal(ctx, tx, number); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE proposals SET state = ?, decided_at = ?, decided_by = ?, decided = ? WHERE number = ?",
			state,
			now(), doerOf(ctx).Name, why, number); err != nil {
			return err
		}
		d := deed{Deed: record.Declined, On: proposalName(number), Why: why}
		if state == api.ProposalWithdrawn {
			d.Deed = record.Withdrew
		}
		return s.note(ctx, tx, d)
	})
}

// published notes that a proposal is published, as a revision.
func published(ctx context.Context, tx *sql.Tx, number, revision int64) error {
	if err := openProposal(ctx, tx, number); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE proposals SET state = ?, decided_at = ?, decided_by = ?, revision = ? WHERE number = ?",
		api.ProposalPublished, now(), doerOf(ctx).Name, revision, number)
	return err
}
