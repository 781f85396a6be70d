// Package kubernetes_test runs the Jobs that docs/several-machines.md shows: on the API server and the Job
// controller of Kubernetes, which accept and drive them, with a stand-in for what starts containers: each
// pod's command is a process here.
package kubernetes_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/etcd/server/v3/embed"
	batchv1 "k8s.io/api/batch/v1"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apiserver/pkg/storage/storagebackend"
	"k8s.io/client-go/informers"
	"k8s.io/client-go/kubernetes"
	apiserver "k8s.io/kubernetes/cmd/kube-apiserver/app/testing"
	"k8s.io/kubernetes/pkg/controller/job"
	"sigs.k8s.io/yaml"
)

// cluster is a control plane with one namespace in use.
type cluster struct {
	*testing.T
	client kubernetes.Interface
}

const namespace = "default"

func newCluster(t *testing.T) *cluster {
	t.Helper()
	config := embed.NewConfig()
	config.Dir, config.LogLevel = t.TempDir(), "error"
	clients, peers := freeAddress(t), freeAddress(t)
	config.ListenClientUrls, config.AdvertiseClientUrls = clients, clients
	config.ListenPeerUrls, config.AdvertisePeerUrls = peers, peers
	config.InitialCluster = config.InitialClusterFromName(config.Name)
	config.UnsafeNoFsync = true
	etcd, err := embed.StartEtcd(config)
	require.NoError(t, err)
	t.Cleanup(etcd.Close)
	<-etcd.Server.ReadyNotify()
	storage := storagebackend.NewDefaultConfig("/registry", nil)
	storage.Transport.ServerList = []string{clients[0].String()}
	server, err := apiserver.StartTestServer(t, nil, []string{"--disable-admission-plugins=ServiceAccount"}, storage)
	require.NoError(t, err)
	t.Cleanup(server.TearDownFn)
	client, err := kubernetes.NewForConfig(server.ClientConfig)
	require.NoError(t, err)
	job.DefaultJobPodFailureBackOff = 50 * time.Millisecond // a killed pod is started again at once
	factory := informers.NewSharedInformerFactory(client, 0)
	ctx, stop := context.WithCancel(t.Context())
	controller, err := job.NewController(ctx, factory.Core().V1().Pods(), factory.Batch().V1().Jobs(), client)
	require.NoError(t, err)
	factory.Start(ctx.Done())
	factory.WaitForCacheSync(ctx.Done())
	var running sync.WaitGroup
	running.Go(func() { controller.Run(ctx, 2) })
	t.Cleanup(func() {
		stop()
		running.Wait()
		factory.Shutdown()
	})
	return &cluster{t, client}
}

// freeAddress is one at which nobody listens.
func freeAddress(t *testing.T) []url.URL {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = listener.Close() }()
	return []url.URL{{Scheme: "http", Host: listener.Addr().String()}}
}

// create gives the API server an object as the document has it: what it does not know is refused.
func (c *cluster) create(text string) (name string) {
	c.Helper()
	var kind metav1.TypeMeta
	require.NoError(c, yaml.Unmarshal([]byte(text), &kind))
	read := func(into runtime.Object) { require.NoError(c, yaml.UnmarshalStrict([]byte(text), into)) }
	options := metav1.CreateOptions{FieldValidation: metav1.FieldValidationStrict}
	var made metav1.Object
	var err error
	switch kind.Kind {
	case "Job":
		one := &batchv1.Job{}
		read(one)
		made, err = c.client.BatchV1().Jobs(namespace).Create(c.Context(), one, options)
	case "PersistentVolumeClaim":
		one := &corev1.PersistentVolumeClaim{}
		read(one)
		made, err = c.client.CoreV1().PersistentVolumeClaims(namespace).Create(c.Context(), one, options)
	default:
		c.Fatalf("%q is not a kind that is tried here", kind.Kind)
	}
	require.NoError(c, err)
	return made.GetName()
}

// ended waits until a Job is complete or has failed, and says which.
func (c *node) ended(name string) batchv1.JobConditionType {
	c.Helper()
	watch, err := c.client.BatchV1().Jobs(namespace).Watch(c.Context(), metav1.ListOptions{FieldSelector: "metadata.name=" + name})
	require.NoError(c, err)
	defer watch.Stop()
	limit := time.After(2 * time.Minute)
	for {
		select {
		case event := <-watch.ResultChan():
			one, isJob := event.Object.(*batchv1.Job)
			require.True(c, isJob, "%#v", event.Object)
			for _, condition := range one.Status.Conditions {
				if condition.Status == corev1.ConditionTrue &&
					(condition.Type == batchv1.JobComplete || condition.Type == batchv1.JobFailed) {
					return condition.Type
				}
			}
		case <-limit:
			require.Fail(c, "the Job "+name+" did not end", "%s", c.all())
		}
	}
}

// node runs the pods that are made, as processes.
type node struct {
	*cluster
	program, bench, shares string
	killed                 map[string]bool // the pods of these Jobs and indexes are killed, the first time
	mutex                  sync.Mutex
	said                   map[string]string // by Job and index
}

// all is what the pods have said.
func (n *node) all() string {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return fmt.Sprint(n.said)
}

func (n *node) run(ctx context.Context) {
	watch, err := n.client.CoreV1().Pods(namespace).Watch(ctx, metav1.ListOptions{})
	if !assert.NoError(n, err) {
		return
	}
	defer watch.Stop()
	var pods sync.WaitGroup
	defer pods.Wait()
	begun := map[string]bool{}
	for event := range watch.ResultChan() {
		pod, isPod := event.Object.(*corev1.Pod)
		if !isPod || begun[pod.Name] || event.Type == "DELETED" {
			continue
		}
		begun[pod.Name] = true
		pods.Go(func() { n.start(ctx, pod) })
	}
}

// start runs the command of a pod, and says what came of it.
func (n *node) start(ctx context.Context, pod *corev1.Pod) {
	container := pod.Spec.Containers[0]
	name := pod.Labels["batch.kubernetes.io/job-name"]
	if index, isIndexed := pod.Annotations["batch.kubernetes.io/job-completion-index"]; isIndexed {
		name += "/" + index
	}
	n.mutex.Lock()
	kill := n.killed[name]
	delete(n.killed, name)
	n.mutex.Unlock()
	status, output := 137, ""
	if !kill {
		status, output = n.process(ctx, pod, container)
	}
	n.mutex.Lock()
	n.said[name] += output
	n.mutex.Unlock()
	pod = pod.DeepCopy()
	pod.Status.Phase = corev1.PodSucceeded
	if status != 0 {
		pod.Status.Phase = corev1.PodFailed
	}
	pod.Status.ContainerStatuses = []corev1.ContainerStatus{{
		Name: container.Name, Image: container.Image,
		State: corev1.ContainerState{Terminated: &corev1.ContainerStateTerminated{ExitCode: int32(status)}},
	}}
	if _, err := n.client.CoreV1().Pods(namespace).UpdateStatus(ctx, pod, metav1.UpdateOptions{}); ctx.Err() == nil {
		assert.NoError(n, err)
	}
}

// process runs the command of a container in a copy of the bench, with the volume in place.
func (n *node) process(ctx context.Context, pod *corev1.Pod, container corev1.Container) (status int, output string) {
	dir := filepath.Join(n.TempDir(), "bench")
	if !assert.NoError(n, os.CopyFS(dir, os.DirFS(n.bench))) {
		return 1, ""
	}
	env := []string{"PATH=" + filepath.Dir(n.program) + ":" + os.Getenv("PATH"), "HOME=" + dir, "TZ=UTC"}
	for _, variable := range container.Env {
		value := variable.Value
		if from := variable.ValueFrom; from != nil && from.FieldRef != nil {
			field, key, _ := strings.Cut(strings.TrimSuffix(from.FieldRef.FieldPath, "']"), "['")
			value = map[string]map[string]string{
				"metadata.labels": pod.Labels, "metadata.annotations": pod.Annotations,
			}[field][key]
		}
		env = append(env, variable.Name+"="+value)
	}
	for _, from := range container.EnvFrom {
		secret, err := n.client.CoreV1().Secrets(namespace).Get(ctx, from.SecretRef.Name, metav1.GetOptions{})
		if !assert.NoError(n, err) {
			return 1, ""
		}
		for name, value := range secret.Data {
			env = append(env, name+"="+string(value))
		}
	}
	args := append(append([]string{}, container.Command...), container.Args...)
	for i, arg := range args {
		args[i] = strings.ReplaceAll(arg, container.VolumeMounts[0].MountPath+"/", n.shares+"/")
	}
	command := exec.CommandContext(ctx, args[0], args[1:]...)
	command.Dir, command.Env = dir, env
	text, err := command.CombinedOutput()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode(), string(text)
	}
	assert.NoError(n, err)
	return 0, string(text)
}

// builtProgram builds the program and gives its file.
func builtProgram(t *testing.T) string {
	program := filepath.Join(t.TempDir(), "testbench")
	build := exec.CommandContext(t.Context(), "go", "build", "-o", program, "./cmd/testbench")
	build.Dir = "../../.."
	output, err := build.CombinedOutput()
	require.NoError(t, err, string(output))
	return program
}

// manifests are the objects that the document shows, for a night.
func manifests(t *testing.T, night string) []string {
	data, err := os.ReadFile("../../../docs/several-machines.md")
	require.NoError(t, err)
	_, text, found := strings.Cut(string(data), "```yaml\napiVersion: v1\n")
	require.True(t, found)
	text, _, _ = strings.Cut("apiVersion: v1\n"+text, "```")
	return strings.Split(strings.ReplaceAll(text, "NIGHT", night), "\n---\n")
}

// The Jobs of the document share a run among four pods, one of which is killed and started again, and merge what
// they wrote; a second night is compared with the first.
func TestIndexedJob(t *testing.T) {
	var mutex sync.Mutex
	asked := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		asked[r.URL.Path]++
		mutex.Unlock()
		w.Header().Set("Content-Type", "application/json")
		_, _ = fmt.Fprintf(w, `{"path": %q, "key": %q}`, r.URL.Path, r.Header.Get("X-Key"))
	}))
	defer server.Close()
	n := &node{
		cluster: newCluster(t), program: builtProgram(t), bench: t.TempDir(), shares: t.TempDir(),
		killed: map[string]bool{"intakes-first/2": true}, said: map[string]string{},
	}
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(n.bench, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(n.bench, name), []byte(text), 0o644))
	}
	write("bench.yaml", "bench: quay\nsites:\n  north:\n    set:\n      base: "+server.URL+"\n")
	write("sheets/crates.yaml", `sheet: crates
rows:
  numbers: 1 to 40
first:
  - step: open
    request: GET ${base}/open
    once: true
steps:
  - step: crate
    request: GET ${base}/${row.number}
    headers:
      X-Key: ${sealed.crane}
    fields:
      path: not equals /7
      key: is not empty
`)
	_, err := n.client.CoreV1().Secrets(namespace).Create(t.Context(), &corev1.Secret{
		ObjectMeta: metav1.ObjectMeta{Name: "testbench-sealed"},
		StringData: map[string]string{"TESTBENCH_SEALED_CRANE": "the key of the crane"},
	}, metav1.CreateOptions{})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { n.run(ctx) })
	defer func() {
		stop()
		running.Wait()
	}()

	for round, night := range []string{"first", "second"} {
		objects := manifests(t, night)
		require.Len(t, objects, 3)
		if round == 0 {
			assert.Equal(t, "shares", n.create(objects[0]))
		}
		share, whole := n.create(objects[1]), n.create(objects[2])
		assert.Equal(t, batchv1.JobComplete, n.ended(share), n.all())
		assert.Equal(t, batchv1.JobFailed, n.ended(whole), "a check failed, and the whole says so: %s", n.all())
		n.mutex.Lock()
		said := n.said["intakes-"+night+"-whole"]
		n.mutex.Unlock()
		assert.Contains(t, said, "40 rows · 39 passed · 1 failed · 41 exchanges", n.all())
		assert.NotContains(t, said, "the key of the crane")
		if round == 1 {
			assert.Contains(t, said, "crate  ✗✗")
			assert.Contains(t, said, "failed in all 2 runs")
		}
		report, err := os.ReadFile(filepath.Join(n.shares, "intakes-"+night, "junit.xml"))
		require.NoError(t, err)
		assert.Equal(t, 41, bytes.Count(report, []byte("<testcase ")))
	}
	mutex.Lock()
	defer mutex.Unlock()
	assert.Equal(t, 2, asked["/open"], "once a night")
	for number := 1; number <= 40; number++ {
		assert.Equal(t, 2, asked[fmt.Sprint("/", number)], "row %d", number)
	}
	nights, err := os.ReadDir(filepath.Join(n.shares, "nights"))
	require.NoError(t, err)
	assert.Len(t, nights, 2)
}
