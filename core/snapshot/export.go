package snapshot

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"path"
	"runtime"

	"github.com/klauspost/compress/zstd"

	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/progress"
)

// WriteTar writes the files of a snapshot as a tar archive packed with zstd, which
// plain tools unpack: tar --zstd -xf. Each area is a folder of its name in it. Every
// byte is proved before it is written.
func WriteTar(ctx context.Context, s *packs.Store, to io.Writer, m *Manifest, report progress.Reporter) error {
	packed, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)))
	if err != nil {
		return err
	}
	archive := tar.NewWriter(packed)
	for _, area := range m.Areas {
		for _, item := range area.Items {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := writeTarItem(ctx, s, archive, path.Join(area.Name, item.Path), item); err != nil {
				return fmt.Errorf("write %s: %w", item.Path, err)
			}
			report.Advance(item.Size)
		}
	}
	if err := archive.Close(); err != nil {
		return err
	}
	return packed.Close()
}

func writeTarItem(ctx context.Context, s *packs.Store, to *tar.Writer, name string, item Item) error {
	header := &tar.Header{
		Name: name, Mode: int64(item.Mode), Uid: max(0, item.Owner), Gid: max(0, item.Group),
		ModTime: item.Modified, Format: tar.FormatPAX, Typeflag: tar.TypeReg, Size: item.Size,
	}
	switch item.Kind {
	case files.Folder:
		header.Typeflag, header.Name, header.Size = tar.TypeDir, name+"/", 0
	case files.Link:
		header.Typeflag, header.Linkname, header.Size = tar.TypeSymlink, item.Target, 0
	}
	if err := to.WriteHeader(header); err != nil {
		return err
	}
	if item.Kind != files.File {
		return nil
	}
	_, err := io.Copy(to, OpenFile(ctx, s, item))
	return err
}
