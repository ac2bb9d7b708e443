// SignIn says how to get in.
export function SignIn({ why }: { why?: string }) {
  return (
    <main className="mx-auto mt-24 max-w-xl px-6">
      <h1>
        <span aria-hidden className="text-velvet">
          ◂◂{" "}
        </span>
        Velvet Rewind
      </h1>
      {why && (
        <p role="alert" className="my-4 border-l-4 border-undone bg-raised px-3 py-2">
          ✕ {why}
        </p>
      )}
      <p className="my-4">You are not signed in. On the machine that the service runs on, make a link that opens this console once:</p>
      <pre className="border border-line bg-raised p-3">velvet login</pre>
    </main>
  );
}
