package bridge

import (
	"context"
	"encoding/json"
	"net/http"
	"sync"
	"time"
)

// restOfHealth is for how long it counts what the service was found to be: it is not asked for
// each who asks.
const restOfHealth = 5 * time.Second

// health is what the service was last found to be.
type health struct {
	mutex   sync.Mutex
	checked time.Time
	wrong   error
}

// of asks whether the service answers, unless that was asked a moment ago.
func (h *health) of(ctx context.Context, ask func(context.Context) error) error {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	if time.Since(h.checked) >= restOfHealth {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), restOfHealth)
		defer cancel()
		h.wrong = ask(ctx)
		h.checked = time.Now() // those who waited meanwhile do not ask once more each
	}
	return h.wrong
}

// showHealth says whether the bridge is there, which it is, and whether the service answers: 200
// where both are so, else 503.
func (h *Handler) showHealth(w http.ResponseWriter, r *http.Request) {
	service := "not asked"
	status := http.StatusOK
	if h.options.Healthy != nil {
		service = "up"
		if err := h.health.of(r.Context(), h.options.Healthy); err != nil {
			service, status = "down", http.StatusServiceUnavailable
			if seen, ok := w.(*recorder); ok {
				seen.cause = h.options.Mask(err.Error())
			}
		}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"status": "up", "service": service})
}
