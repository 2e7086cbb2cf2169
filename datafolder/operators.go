package datafolder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/store"
)

// operatorName is what the service takes for the name of an operator, too (api.OperatorOrder).
var operatorName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// AddOperator adds an operator to the data folder of a service that is not at work, or gives one a new token: whoever may write
// there holds every key of the service already.
func AddOperator(ctx context.Context, data string, in api.OperatorOrder) (out api.Operator, err error) {
	if !operatorName.MatchString(in.Name) {
		return out, fmt.Errorf("%q is no name of an operator: it has up to 64 small letters, digits, dots, dashes and underscores", in.Name)
	}
	file := filepath.Join(data, database)
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return out, fmt.Errorf("%s is no data folder of a service: there is no %s in it", data, database)
	} else if err != nil {
		return out, err
	}
	unlock, err := lockFolder(data)
	if err != nil {
		return out, err
	}
	defer unlock()
	if err := closedToOthers(data, true); err != nil {
		return out, err
	}
	st, err := store.Open(ctx, file)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	people := identity.New(identity.Options{
		Store: st, Now: time.Now, Log: slog.New(slog.DiscardHandler), Left: func(string) {}, Refused: func(string) {},
	})
	o, err := people.AddHere(ctx, in)
	if err != nil {
		return out, err
	}
	return *o, nil
}
