// Runs a model in the open exchange format on rows: node run_onnx.js MODEL ROWS.json, with the folder of the
// runtime's packages in OXGOAD_ONNX_RUNTIME. Rows are {"column": [numbers, nulls or texts]}.
const fs = require('fs');
const runtime = require(process.env.OXGOAD_ONNX_RUNTIME + '/onnxruntime-node');
const [model, rowsFile] = process.argv.slice(2);
(async () => {
  const session = await runtime.InferenceSession.create(model, {logSeverityLevel: 3});
  const rows = JSON.parse(fs.readFileSync(rowsFile, 'utf8'));
  const feeds = {};
  for (const name of session.inputNames) {
    const values = rows[name];
    const text = values.every(value => typeof value === 'string');
    feeds[name] = text ? new runtime.Tensor('string', values, [values.length, 1])
                       : new runtime.Tensor('float64', Float64Array.from(values, v => v === null ? NaN : v),
                                            [values.length, 1]);
  }
  const said = await session.run(feeds);
  const out = {};
  for (const name of session.outputNames)
    out[name] = Array.from(said[name].data, v => Number.isFinite(v) ? v : null);
  process.stdout.write(JSON.stringify(out));
})().catch(error => {
  process.stderr.write(String(error));
  process.exit(1);
});
