package bridge

import (
	"bytes"
	_ "embed"
	"html/template"
	"net/http"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/xsd/instance"
)

// the page

// describe writes the service as OpenAPI 3.1.
func (h *Handler) describe(withKeys bool) string {
	text := document.NewText
	form := instance.NewJSONForm(h.options.Schema)
	ref := func(name string) *document.Node {
		return document.NewObject().Set("$ref", text("#/components/responses/"+name))
	}
	paths := document.NewObject()
	for _, o := range h.options.Operations {
		op := document.NewObject().Set("operationId", text(o.Name))
		if o.About != "" {
			op.Set("description", text(o.About))
		}
		if o.Request != nil {
			op.Set("requestBody", document.NewObject().Set("required", document.NewBoolean(true)).Set("content",
				content("application/json", form.Element(o.Request))))
		}
		answers := document.NewObject()
		if o.Answer != nil {
			answers.Set("200", document.NewObject().Set("description", text("What the service answers.")).Set("content",
				content("application/json", form.Element(o.Answer))))
		} else {
			answers.Set("202", document.NewObject().Set("description", text("The service took it.")))
		}
		for _, status := range []string{"400", "422", "502", "504"} {
			answers.Set(status, ref("Problem"))
		}
		if withKeys {
			answers.Set("401", ref("Problem")).Set("403", ref("Problem"))
			op.Set("security", document.NewList(document.NewObject().Set("key", document.NewList())))
		}
		op.Set("responses", answers)
		paths.Set("/"+o.Name, document.NewObject().Set("post", op))
	}
	components := document.NewObject().Set("schemas", form.Definitions()).Set("responses",
		document.NewObject().Set("Problem",
			document.NewObject().Set("description", text("Why there is no answer (RFC 9457).")).Set("content",
				content("application/problem+json", problemSchema()))))
	if withKeys {
		scheme := document.NewObject().Set("type", text("http")).Set("scheme", text("bearer"))
		if h.options.KeyHeader != "" {
			scheme = document.NewObject().Set("type", text("apiKey")).Set("in", text("header")).Set("name",
				text(h.options.KeyHeader))
		}
		components.Set("securitySchemes", document.NewObject().Set("key", scheme))
	}
	root := document.NewObject().Set("openapi", text("3.1.0")).
		Set("info", document.NewObject().Set("title", text(h.options.Title)).Set("version", text("1"))).
		Set("servers", document.NewList(document.NewObject().Set("url", text("/")))).
		Set("paths", paths).Set("components", components)
	return document.WriteJSON(root, document.Style{Indent: "  "}) + "\n"
}

func content(mediaType string, s *document.Node) *document.Node {
	return document.NewObject().Set(mediaType, document.NewObject().Set("schema", s))
}

func problemSchema() *document.Node {
	of := func(kind string) *document.Node { return document.NewObject().Set("type", document.NewText(kind)) }
	return of("object").Set("properties",
		document.NewObject().Set("type", of("string")).Set("title", of("string")).Set("status",
			of("integer")).Set("detail", of("string")).
			Set("errors", of("array").Set("items", of("object"))).Set("fault", of("object")))
}

//go:embed page.html
var pageText string

// pageOperation is an operation as the page shows it.
type pageOperation struct {
	Name, About, Sample string
	Fields              []schema.Row
}

func (h *Handler) renderPage(withKeys bool) ([]byte, error) {
	t, err := template.New("page").Parse(pageText)
	if err != nil {
		return nil, err
	}
	var operations []pageOperation
	for _, o := range h.options.Operations {
		one := pageOperation{Name: o.Name, About: o.About, Sample: "{}"}
		if o.Request != nil {
			one.Fields = instance.Outline(h.options.Schema, o.Request, 0)
			sample := instance.Sample(h.options.Schema, o.Request, schema.SampleOptions{})
			one.Sample = document.WriteJSON(instance.Fields(h.options.Schema, o.Request, sample.Root),
				document.Style{Indent: "  "})
		}
		operations = append(operations, one)
	}
	var out bytes.Buffer
	err = t.Execute(&out, map[string]any{
		"Title": h.options.Title, "Operations": operations, "Keys": withKeys,
		"KeyHeader": h.options.KeyHeader,
	})
	return out.Bytes(), err
}

func (h *Handler) showPage(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy",
		"default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'; img-src "+
			"data:; frame-ancestors 'none'; form-action 'none'")
	_, _ = w.Write(h.page[h.wantsKeys()])
}
