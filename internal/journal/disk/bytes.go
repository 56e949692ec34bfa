package disk

import (
	"database/sql"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"

	"orenda/internal/exchange"
	"orenda/internal/user"
)

// keepBytes keeps a run of bytes, once for all that hold it, and gives its hash.
func (j *Journal) keepBytes(db base, hash string, b exchange.Body) error {
	var there int
	if err := db.QueryRow(`SELECT count(*) FROM bytes WHERE hash = ?`, hash).Scan(&there); err != nil || there > 0 {
		return err
	}
	var data []byte
	if b.Len() <= inline {
		data = j.press.Press(b.Bytes())
	} else if err := user.WriteFileFrom(j.large(hash), func(w io.Writer) error { return pack(w, b) }); err != nil {
		return err
	}
	_, err := db.Exec(`INSERT OR IGNORE INTO bytes VALUES (?,?,?)`, hash, b.Len(), data)
	return err
}

func pack(w io.Writer, b exchange.Body) error {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(1<<20))
	if err != nil {
		return err
	}
	if _, err := b.WriteTo(z); err != nil {
		z.Close()
		return err
	}
	return z.Close()
}

// findBytes gives what keepBytes kept.
func (j *Journal) findBytes(db *sql.DB, hash string, length int64) ([]byte, error) {
	var data []byte
	if err := db.QueryRow(`SELECT data FROM bytes WHERE hash = ?`, hash).Scan(&data); err != nil {
		return nil, fmt.Errorf("the bytes %.8s are not kept any more: %w", hash, err)
	}
	if data != nil {
		out, err := j.press.Unpress(data)
		if err == nil && int64(len(out)) < length {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return nil, fmt.Errorf("the bytes %.8s are damaged: %w", hash, err)
		}
		return out[:length], nil
	}
	f, err := os.Open(j.large(hash))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	out := make([]byte, length)
	if _, err := io.ReadFull(z, out); err != nil {
		return nil, fmt.Errorf("the bytes %.8s are damaged: %w", hash, err)
	}
	return out, nil
}
