"""gRPC servers: one call, one request with the method's name, by an interceptor in front of the
program's own.
"""

from functools import wraps

from ..marking import Part

_KINDS = {  # of a handler's method: (attribute, how it is made again)
    (False, False): ("unary_unary", "unary_unary_rpc_method_handler"),
    (False, True): ("unary_stream", "unary_stream_rpc_method_handler"),
    (True, False): ("stream_unary", "stream_unary_rpc_method_handler"),
    (True, True): ("stream_stream", "stream_stream_rpc_method_handler"),
}


def _call(method):
    return Part("call", "gRPC " + method)


def _answering(behaviour, method):
    """A behaviour with one answer."""

    @wraps(behaviour)
    def answer(request, context):
        with _call(method):
            return behaviour(request, context)

    return answer


def _streaming(behaviour, method):
    """A behaviour with many answers: the call is open until the last one."""

    @wraps(behaviour)
    def answers(request, context):
        with _call(method):
            yield from behaviour(request, context)

    return answers


def _answering_async(behaviour, method):
    @wraps(behaviour)
    async def answer(request, context):
        with _call(method):
            return await behaviour(request, context)

    return answer


def _streaming_async(behaviour, method):
    @wraps(behaviour)
    async def answers(request, context):
        with _call(method):
            async for item in behaviour(request, context):
                yield item

    return answers


def _recorded(handler, method, grpc, is_async):
    if handler is None:
        return None
    name, make = _KINDS[bool(handler.request_streaming), bool(handler.response_streaming)]
    behaviour = getattr(handler, name)
    if is_async and _is(behaviour, "isasyncgenfunction"):
        wrapped = _streaming_async(behaviour, method)
    elif is_async and _is(
        behaviour, "iscoroutinefunction"
    ):  # a stream too may be written to its context by one
        wrapped = _answering_async(behaviour, method)
    else:
        wrapped = (_streaming if handler.response_streaming else _answering)(behaviour, method)
    return getattr(grpc, make)(
        wrapped,
        request_deserializer=handler.request_deserializer,
        response_serializer=handler.response_serializer,
    )


def _is(behaviour, kind):
    import inspect

    return getattr(inspect, kind)(behaviour)


def install(module):
    """Put our interceptor in front of those that `grpc.server` is given."""
    plain = module.server

    class Interceptor(module.ServerInterceptor):
        def intercept_service(self, continuation, handler_call_details):
            return _recorded(
                continuation(handler_call_details), handler_call_details.method, module, False
            )

    @wraps(plain)
    def server(thread_pool, handlers=None, interceptors=None, *args, **kwargs):
        return plain(thread_pool, handlers, (Interceptor(), *(interceptors or ())), *args, **kwargs)

    module.server = server


def install_aio(module):
    """The same for `grpc.aio.server`."""
    import grpc

    plain = module.server

    class Interceptor(module.ServerInterceptor):
        async def intercept_service(self, continuation, handler_call_details):
            return _recorded(
                await continuation(handler_call_details), handler_call_details.method, grpc, True
            )

    @wraps(plain)
    def server(migration_thread_pool=None, handlers=None, interceptors=None, *args, **kwargs):
        return plain(
            migration_thread_pool, handlers, (Interceptor(), *(interceptors or ())), *args, **kwargs
        )

    module.server = server
