package remote

import (
	"context"
	"strconv"

	"wetland/core/files"
	"wetland/core/host"
)

// Accounts are those of the helper's machine.
func (h *Host) Accounts() host.Accounts { return accounts{h} }

type accounts struct{ host *Host }

func (a accounts) Self(context.Context) int { return a.host.self }

func (a accounts) UserName(ctx context.Context, user int) string {
	return a.name(ctx, methodUser, user)
}

func (a accounts) GroupName(ctx context.Context, group int) string {
	return a.name(ctx, methodGroup, group)
}

func (a accounts) name(ctx context.Context, method string, id int) string {
	name := "#" + strconv.Itoa(id)
	_ = a.host.desk.Do(ctx, method, request{Number: int64(id)}, &name)
	return name
}

func (a accounts) MayWrite(ctx context.Context, user int, entry files.Entry) bool {
	may := true
	args := request{Number: int64(user), With: files.Attributes{Owner: entry.Owner, Group: entry.Group, Mode: entry.Mode}}
	_ = a.host.desk.Do(ctx, methodMayWrite, args, &may)
	return may
}
